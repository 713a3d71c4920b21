//! A zone in a site file, with how it was before.

use crate::json::{Checker, HoursDto, code_schema};
use crate::planting::{self, PlantingDto};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use upland_core::codes::Coded;
use upland_core::ground::application::HeadType;
use upland_core::ground::plant;
use upland_core::ground::planting::OwnCoefficient;
use upland_core::ground::soil::Texture;
use upland_core::quantity::bounds;
use upland_core::quantity::ratio::Share;
use upland_core::quantity::units::{Metres, MillimetresPerHour, SquareMetres};
use upland_core::site::{EarlierZone, Zone};

/// Most earlier surveys of a zone.
const MAX_EARLIER: usize = 200;

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Zone")]
pub(crate) struct ZoneDto {
    /// Number of the controller it is wired to; 1 when left out.
    #[serde(default = "first_controller", skip_serializing_if = "is_first_controller")]
    pub(crate) controller: u8,
    /// Station number on the controller.
    pub(crate) number: u16,
    name: String,
    #[schemars(schema_with = "code_schema::<plant::PlantKind>")]
    plant: String,
    /// Own plant coefficient instead of the kind's; leave out for the default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    plant_coefficient: Option<f64>,
    #[schemars(schema_with = "code_schema::<Texture>")]
    soil: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    slope_pct: Option<f64>,
    #[schemars(schema_with = "code_schema::<plant::Sun>")]
    sun: String,
    #[schemars(schema_with = "code_schema::<plant::Sky>")]
    sky: String,
    #[schemars(schema_with = "code_schema::<HeadType>")]
    head: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    precipitation_rate_mm_per_h: Option<f64>,
    /// Distribution uniformity of the low quarter, a fraction.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    uniformity: Option<f64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    root_depth_m: Option<f64>,
    /// Fraction of the available water.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    allowable_depletion: Option<f64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    area_m2: Option<f64>,
    /// Its own water window, instead of the site's; leave out for the site's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    water_window: Option<HoursDto>,
    /// Coefficient by month or by factors, mixed plants, grow-in, wean-off, trim.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    planting: Option<PlantingDto>,
    /// How it was before, each until the first date on which it was otherwise; the oldest first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    earlier: Vec<EarlierZoneDto>,
}

#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "EarlierZone")]
struct EarlierZoneDto {
    until: String,
    zone: ZoneDto,
}

fn first_controller() -> u8 {
    1
}

#[allow(clippy::trivially_copy_pass_by_ref, reason = "serde asks for a reference")]
fn is_first_controller(number: &u8) -> bool {
    *number == 1
}

impl ZoneDto {
    /// A zone with those earlier surveys that are its own.
    pub(crate) fn of(zone: &Zone, earlier: &[EarlierZone]) -> Self {
        let own = |e: &&EarlierZone| e.zone.station_id() == zone.station_id();
        let before =
            |e: &EarlierZone| EarlierZoneDto { until: e.until.to_string(), zone: Self::of(&e.zone, &[]) };
        Self {
            earlier: earlier.iter().filter(own).map(before).collect(),
            controller: zone.controller_number,
            number: zone.number,
            name: zone.name.clone(),
            plant: zone.plant.code().into(),
            plant_coefficient: match zone.own_coefficient {
                Some(OwnCoefficient::Constant(value)) => Some(value),
                _ => None,
            },
            soil: zone.soil.code().into(),
            slope_pct: zone.slope_pct,
            sun: zone.sun.code().into(),
            sky: zone.sky.code().into(),
            head: zone.head.code().into(),
            precipitation_rate_mm_per_h: zone.precipitation_rate.map(MillimetresPerHour::mm_per_hour),
            uniformity: zone.uniformity.map(Share::fraction),
            root_depth_m: zone.root_depth.map(Metres::m),
            allowable_depletion: zone.allowable_depletion.map(Share::fraction),
            area_m2: zone.area.map(SquareMetres::m2),
            water_window: zone.window.map(Into::into),
            planting: PlantingDto::of(zone.own_coefficient.as_ref(), &zone.planting),
        }
    }
}

/// Reads how a zone was before.
pub(crate) fn read_earlier(take: &mut Checker, at: &str, dto: &ZoneDto) -> Vec<EarlierZone> {
    if dto.earlier.len() > MAX_EARLIER {
        take.say(
            &format!("{at}.earlier"),
            format!("has {} entries; at most {MAX_EARLIER}", dto.earlier.len()),
        );
    }
    let mut out: Vec<EarlierZone> = Vec::new();
    for (k, own) in dto.earlier.iter().take(MAX_EARLIER).enumerate() {
        let path = |field: &str| format!("{at}.earlier[{k}].{field}");
        let until = take.date(&path("until"), &own.until);
        if !own.zone.earlier.is_empty() {
            take.say(
                &path("zone.earlier"),
                "belongs to the zone itself and not to an earlier survey".to_owned(),
            );
        }
        if out.last().is_some_and(|last| last.until >= until) {
            take.say(&path("until"), "comes after the one before it; the oldest is first".to_owned());
        }
        let zone = read_zone(take, &path("zone"), &own.zone);
        out.extend(zone.map(|zone| EarlierZone {
            until,
            zone: Zone { controller_number: dto.controller, number: dto.number, ..zone },
        }));
    }
    out
}

pub(crate) fn read_zone(take: &mut Checker, at: &str, dto: &ZoneDto) -> Option<Zone> {
    let path = |field: &str| format!("{at}.{field}");
    take.bounded(&path("number"), &bounds::ZONE_NUMBER, f64::from(dto.number));
    let plant = take.code(&path("plant"), &dto.plant);
    let soil = take.code(&path("soil"), &dto.soil);
    let sun = take.code(&path("sun"), &dto.sun);
    let sky = take.code(&path("sky"), &dto.sky);
    let head = take.code(&path("head"), &dto.head);
    let name = take.name(&path("name"), &dto.name);
    let mut optional = |field, bound, value| take.optional(&path(field), bound, value);
    let constant = optional("plant_coefficient", &bounds::PLANT_COEFFICIENT, dto.plant_coefficient);
    let slope_pct = optional("slope_pct", &bounds::SLOPE, dto.slope_pct);
    let rate =
        optional("precipitation_rate_mm_per_h", &bounds::PRECIPITATION_RATE, dto.precipitation_rate_mm_per_h);
    let uniformity = optional("uniformity", &bounds::UNIFORMITY, dto.uniformity);
    let root_depth = optional("root_depth_m", &bounds::ROOT_DEPTH, dto.root_depth_m);
    let allowable_depletion =
        optional("allowable_depletion", &bounds::ALLOWABLE_DEPLETION, dto.allowable_depletion);
    let area = optional("area_m2", &bounds::AREA, dto.area_m2);
    let window = dto.water_window.as_ref().map(|hours| take.window(&path("water_window"), hours));
    let (own_coefficient, planting) =
        planting::take(take, &path("planting"), constant, dto.planting.as_ref());
    Some(Zone {
        controller_number: dto.controller,
        number: dto.number,
        name,
        plant: plant?,
        own_coefficient,
        planting,
        soil: soil?,
        slope_pct,
        sun: sun?,
        sky: sky?,
        head: head?,
        precipitation_rate: rate.map(MillimetresPerHour::from_mm_per_hour),
        uniformity: uniformity.map(Share::from_fraction),
        root_depth: root_depth.map(Metres::from_m),
        allowable_depletion: allowable_depletion.map(Share::from_fraction),
        area: area.map(SquareMetres::from_m2),
        window,
    })
}
