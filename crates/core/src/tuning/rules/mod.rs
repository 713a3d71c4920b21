//! One story for each cause that could be, with the facts that were seen. Three files: what is wrong at a zone, what
//! is wrong at a controller, what is wrong at a sensor.

mod controllers;
mod sensors;
mod zones;

use super::cause::{Cause, Evidence, Settle};
use super::picture::Picture;
use super::visit::Looks;
use super::weigh::{Case, Fact};

/// Every fact and every story of a picture.
pub(super) fn all(picture: &Picture<'_>) -> (Vec<Fact>, Vec<Case>) {
    let (mut facts, mut cases) = (Vec::new(), vec![nothing(picture)]);
    zones::facts(picture, &mut facts);
    controllers::facts(picture, &mut facts);
    sensors::facts(picture, &mut facts);
    zones::cases(picture, &mut cases);
    controllers::cases(picture, &mut cases);
    sensors::cases(picture, &mut cases);
    (facts, cases)
}

/// The story that all is well: the account's own.
fn nothing(picture: &Picture<'_>) -> Case {
    let mut case = Case::new(Cause::NothingWrong, 0.0, Settle::Nothing);
    let right = picture.zones.iter().filter(|z| z.looks() == Some(Looks::Right)).count();
    if right > 0 {
        case.say(0.0, Evidence::AllRight(right));
    }
    case
}
