//! What the controller will do, held against what a zone needs.

use crate::account::ENOUGH;
use crate::account::nights::ZoneNight;
use crate::account::running::{ControllerRun, Holder};
use crate::account::zone::Ahead;
use crate::quantity::time::Seconds;
use crate::quantity::units::Millimetres;
use jiff::Timestamp;

/// Missing less than this share of what a watering brings, the zone did not need it.
const NOT_NEEDED_SHARE: f64 = 0.25;
/// Share of what is put down that may run off before that is what is wrong (our stated bound).
pub(super) const RUNS_OFF_SHARE: f64 = 0.2;

/// What a controller will do to a zone tonight.
#[derive(Debug, Clone, PartialEq)]
pub struct Will {
    /// Its runs of the night, those that are held too, in order.
    pub runs: Vec<ControllerRun>,
    /// What they do to it.
    pub ahead: Ahead,
    /// Net depth that they would bring if all of it went in.
    pub brings: Millimetres,
    /// What forbids some of them: the first forbidden instant.
    pub forbidden: Option<Timestamp>,
}

impl Will {
    /// How long water runs.
    #[must_use]
    pub fn waters(&self) -> Seconds {
        self.runs.iter().map(ControllerRun::waters).sum()
    }

    /// How long it is set to run.
    #[must_use]
    pub fn set(&self) -> Seconds {
        self.runs.iter().map(|r| r.run.length()).sum()
    }

    /// When water starts, run by run; those that are held are left out.
    pub fn starts(&self) -> impl Iterator<Item = Timestamp> {
        self.runs.iter().filter(|r| !r.is_held()).map(|r| r.run.start)
    }

    /// Everybody who holds one of its runs, each once.
    #[must_use]
    pub fn held_by(&self) -> Vec<Holder> {
        let mut all: Vec<Holder> = Vec::new();
        for holder in self.runs.iter().flat_map(|r| &r.held_by) {
            if !all.contains(holder) {
                all.push(*holder);
            }
        }
        all
    }

    /// Share of what it puts down that runs off, 0 to 1.
    #[must_use]
    pub fn runs_off(&self) -> f64 {
        let applied = self.ahead.water.applied.mm();
        if applied > 0.0 { self.ahead.water.applied_off.mm() / applied } else { 0.0 }
    }

    /// Net depth that it brings: what runs off serves nobody.
    #[must_use]
    pub fn stays(&self) -> Millimetres {
        self.brings * (1.0 - self.runs_off())
    }
}

/// Whether what the controller will do is right.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Verdict {
    /// What is missing comes back, or nothing is missing and nothing runs.
    Right,
    /// It runs, is not due, and hardly anything is missing.
    NotNeeded,
    /// It brings more than is missing.
    TooMuch,
    /// It comes faster than the soil takes it, and much of it runs off.
    RunsOff,
    /// It brings less than the zone needs tonight, or nothing.
    TooLittle,
    /// It runs when an ordinance forbids it.
    Forbidden,
    /// A sensor or the controller itself keeps its runs back.
    Held,
    /// The zone is due, and no program that is on has a run time for it.
    NothingReaches,
}

impl Verdict {
    /// Words for lists.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Right => "right",
            Self::NotNeeded => "not needed",
            Self::TooMuch => "too much",
            Self::RunsOff => "runs off",
            Self::TooLittle => "too little",
            Self::Forbidden => "forbidden",
            Self::Held => "held",
            Self::NothingReaches => "nothing reaches it",
        }
    }
}

/// Whether a net depth is well above what is missing.
#[must_use]
pub fn is_too_much(net: Millimetres, missing: Millimetres) -> bool {
    net.mm() > ENOUGH.1 * missing.mm()
}

/// What a verdict is judged from.
pub(super) struct Judged<'a> {
    pub will: &'a Will,
    pub night: &'a ZoneNight,
    /// Whether the zone is due tonight.
    pub due: bool,
    /// What is missing when the night is decided.
    pub missing: Millimetres,
    /// Whether any program that is on has a run time for it.
    pub has_run_time: bool,
}

/// Judges what the controller will do.
pub(super) fn judge(of: &Judged<'_>) -> Verdict {
    let waters = of.will.waters().any();
    if of.will.forbidden.is_some() && waters {
        return Verdict::Forbidden;
    }
    // Nothing is needed in a night in which nothing is advised.
    let due = of.due && of.night.barred.is_none();
    if !waters {
        let held = !of.will.runs.is_empty();
        return match (held, due) {
            (true, _) => Verdict::Held,
            (false, true) if !of.has_run_time => Verdict::NothingReaches,
            (false, true) => Verdict::TooLittle,
            (false, false) => Verdict::Right,
        };
    }
    let (stays, missing) = (of.will.stays().mm(), of.missing.mm());
    // A zone past its refill point needs water, on a night that takes none too: what is wrong is then the amount.
    if !of.due && missing <= NOT_NEEDED_SHARE * stays {
        Verdict::NotNeeded
    } else if is_too_much(of.will.stays(), of.missing) {
        Verdict::TooMuch
    } else if of.will.runs_off() > RUNS_OFF_SHARE {
        Verdict::RunsOff
    } else if due && stays < ENOUGH.0 * missing {
        Verdict::TooLittle
    } else {
        Verdict::Right
    }
}
