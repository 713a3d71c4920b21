//! The planting part of a zone in the site file: coefficient, mixed plants, grow-in, wean-off, trim
//! and how the rate was found. The database keeps it in the same form.

use crate::json::{Checker, PathProblem, code_schema};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use upland_core::codes::Coded;
use upland_core::ground::plant::PlantKind;
use upland_core::ground::planting::{
    GrowIn, MixedRule, OtherPlants, OwnCoefficient, Planting, PlantingValue, RateBasis, Trim, WeanOff,
};
use upland_core::quantity::bounds;
use upland_core::quantity::month::ByMonth;
use upland_core::quantity::ratio::Share;
use upland_core::quantity::units::Metres;

/// Most other plants of a valve.
const MOST_OTHERS: usize = 4;

/// Planting beyond the kind.
#[derive(Debug, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
#[schemars(rename = "Planting")]
pub(crate) struct PlantingDto {
    /// Own coefficient by month, January first; sun and shade are in it. Not beside `landscape`.
    #[serde(skip_serializing_if = "Option::is_none")]
    monthly_coefficients: Option<[f64; 12]>,
    /// Own coefficient as species and density factor; the zone's sun is the third.
    #[serde(skip_serializing_if = "Option::is_none")]
    landscape: Option<LandscapeDto>,
    /// Other plants on the valve.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    others: Vec<OtherDto>,
    /// Whom the valve is watered for: `thirstiest` when left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schemars(schema_with = "code_schema::<MixedRule>")]
    mixed: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    grow_in: Option<GrowInDto>,
    #[serde(skip_serializing_if = "Option::is_none")]
    wean_off: Option<WeanOffDto>,
    #[serde(skip_serializing_if = "Option::is_none")]
    trim: Option<TrimDto>,
    /// How the precipitation rate was found; typed when left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    rate_from: Option<RateDto>,
    /// What the planting is worth where zones share a percentage: `ordinary` when left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schemars(schema_with = "code_schema::<PlantingValue>")]
    value: Option<String>,
}

#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "LandscapeCoefficient")]
struct LandscapeDto {
    species_factor: f64,
    density_factor: f64,
}

#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "OtherPlants")]
struct OtherDto {
    #[schemars(schema_with = "code_schema::<PlantKind>")]
    plant: String,
    /// Share of the zone's area, a fraction.
    share: f64,
}

#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "GrowIn")]
struct GrowInDto {
    /// YYYY-MM-DD, included.
    from: String,
    /// YYYY-MM-DD, included.
    until: String,
    factor: f64,
    root_depth_m: f64,
}

#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "WeanOff")]
pub(crate) struct WeanOffDto {
    /// YYYY-MM-DD.
    from: String,
    weeks: u8,
    start_pct: f64,
}

impl From<WeanOff> for WeanOffDto {
    fn from(own: WeanOff) -> Self {
        Self { from: own.from.to_string(), weeks: own.weeks, start_pct: own.start.percent() }
    }
}

impl WeanOffDto {
    /// Takes a ramp over.
    pub fn take(&self, take: &mut Checker, at: &str) -> WeanOff {
        let path = |field: &str| format!("{at}.{field}");
        let from = take.date(&path("from"), &self.from);
        take.bounded(&path("weeks"), &bounds::WEAN_OFF_WEEKS, f64::from(self.weeks));
        take.bounded(&path("start_pct"), &bounds::WEAN_OFF_START, self.start_pct);
        WeanOff { from, weeks: self.weeks, start: Share::from_percent(self.start_pct) }
    }
}

#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(rename = "Trim")]
struct TrimDto {
    percent: f64,
    reason: String,
}

#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
#[schemars(rename = "RateFrom")]
enum RateDto {
    /// A catch-can test.
    CatchCans {
        /// YYYY-MM-DD.
        on: String,
    },
    /// Flow over area.
    FlowAndArea { flow_l_per_min: f64, area_m2: f64 },
    /// Emitters and their spacing.
    Emitters { flow_l_per_h: f64, along_m: f64, rows_m: f64 },
}

impl PlantingDto {
    /// `None` when there is nothing to say.
    pub fn of(own: Option<&OwnCoefficient>, planting: &Planting) -> Option<Self> {
        let dto = Self {
            monthly_coefficients: match own {
                Some(OwnCoefficient::Monthly(values)) => Some(values.into_values()),
                _ => None,
            },
            landscape: match own {
                Some(OwnCoefficient::Landscape { species, density }) => {
                    Some(LandscapeDto { species_factor: *species, density_factor: *density })
                }
                _ => None,
            },
            others: planting
                .others
                .iter()
                .map(|o| OtherDto { plant: o.plant.code().into(), share: o.share.fraction() })
                .collect(),
            mixed: (planting.mixed != MixedRule::default()).then(|| planting.mixed.code().into()),
            grow_in: planting.grow_in.map(|g| GrowInDto {
                from: g.from.to_string(),
                until: g.until.to_string(),
                factor: g.factor,
                root_depth_m: g.root_depth.m(),
            }),
            wean_off: planting.wean_off.map(WeanOffDto::from),
            trim: planting.trim.as_ref().map(|t| TrimDto { percent: t.percent, reason: t.reason.clone() }),
            rate_from: match planting.rate_basis {
                RateBasis::Typed => None,
                RateBasis::CatchCans { on } => Some(RateDto::CatchCans { on: on.to_string() }),
                RateBasis::FlowAndArea { flow_l_per_min, area_m2 } => {
                    Some(RateDto::FlowAndArea { flow_l_per_min, area_m2 })
                }
                RateBasis::Emitters { flow_l_per_h, along_m, rows_m } => {
                    Some(RateDto::Emitters { flow_l_per_h, along_m, rows_m })
                }
            },
            value: (planting.value != PlantingValue::default()).then(|| planting.value.code().into()),
        };
        let says_something = own.is_some_and(|o| !matches!(o, OwnCoefficient::Constant(_)))
            || *planting != Planting::default();
        says_something.then_some(dto)
    }
}

/// Takes a planting over, with the coefficient that stands beside it in the zone.
// Long: one field of the file after another.
pub(crate) fn take(
    take: &mut Checker,
    at: &str,
    constant: Option<f64>,
    dto: Option<&PlantingDto>,
) -> (Option<OwnCoefficient>, Planting) {
    let constant = constant.map(OwnCoefficient::Constant);
    let Some(dto) = dto else { return (constant, Planting::default()) };
    let path = |field: &str| format!("{at}.{field}");
    let mut given: Vec<OwnCoefficient> = constant.into_iter().collect();
    if let Some(values) = dto.monthly_coefficients {
        for (m, value) in values.iter().enumerate() {
            take.bounded(&path(&format!("monthly_coefficients[{m}]")), &bounds::PLANT_COEFFICIENT, *value);
        }
        given.push(OwnCoefficient::Monthly(ByMonth::new(values)));
    }
    if let Some(l) = &dto.landscape {
        take.bounded(&path("landscape.species_factor"), &bounds::SPECIES_FACTOR, l.species_factor);
        take.bounded(&path("landscape.density_factor"), &bounds::DENSITY_FACTOR, l.density_factor);
        given.push(OwnCoefficient::Landscape { species: l.species_factor, density: l.density_factor });
    }
    if given.len() > 1 {
        take.say(at, "has more than one coefficient; keep one of plant_coefficient, monthly_coefficients and landscape");
    }
    if dto.others.len() > MOST_OTHERS {
        take.say(
            &path("others"),
            format!("has more than {MOST_OTHERS} other plants; put the smallest together"),
        );
    }
    let mut others = Vec::new();
    for (i, other) in dto.others.iter().enumerate().take(MOST_OTHERS) {
        take.bounded(&path(&format!("others[{i}].share")), &bounds::PLANT_SHARE, other.share);
        if let Some(plant) = take.code(&path(&format!("others[{i}].plant")), &other.plant) {
            others.push(OtherPlants { plant, share: Share::from_fraction(other.share) });
        }
    }
    if others.iter().map(|o| o.share.fraction()).sum::<f64>() > bounds::PLANT_SHARE.max {
        take.say(
            &path("others"),
            "leave no share for the zone's own plants; their shares must stay below 0.99 together",
        );
    }
    let mixed = dto.mixed.as_ref().and_then(|code| take.code(&path("mixed"), code)).unwrap_or_default();
    let value = dto.value.as_ref().and_then(|code| take.code(&path("value"), code)).unwrap_or_default();
    let grow_in = dto.grow_in.as_ref().map(|g| {
        let (from, until) =
            (take.date(&path("grow_in.from"), &g.from), take.date(&path("grow_in.until"), &g.until));
        if until < from {
            take.say(&path("grow_in.until"), "lies before its first day");
        }
        take.bounded(&path("grow_in.factor"), &bounds::GROW_IN_FACTOR, g.factor);
        take.bounded(&path("grow_in.root_depth_m"), &bounds::ROOT_DEPTH, g.root_depth_m);
        GrowIn { from, until, factor: g.factor, root_depth: Metres::from_m(g.root_depth_m) }
    });
    let wean_off = dto.wean_off.as_ref().map(|w| w.take(take, &path("wean_off")));
    let trim = dto.trim.as_ref().map(|t| {
        take.bounded(&path("trim.percent"), &bounds::TRIM, t.percent);
        Trim { percent: t.percent, reason: take.name(&path("trim.reason"), &t.reason) }
    });
    let rate_basis = match &dto.rate_from {
        None => RateBasis::Typed,
        Some(RateDto::CatchCans { on }) => RateBasis::CatchCans { on: take.date(&path("rate_from.on"), on) },
        Some(RateDto::FlowAndArea { flow_l_per_min, area_m2 }) => RateBasis::FlowAndArea {
            flow_l_per_min: take.bounded(
                &path("rate_from.flow_l_per_min"),
                &bounds::ZONE_FLOW,
                *flow_l_per_min,
            ),
            area_m2: take.bounded(&path("rate_from.area_m2"), &bounds::AREA, *area_m2),
        },
        Some(RateDto::Emitters { flow_l_per_h, along_m, rows_m }) => RateBasis::Emitters {
            flow_l_per_h: take.bounded(&path("rate_from.flow_l_per_h"), &bounds::EMITTER_FLOW, *flow_l_per_h),
            along_m: take.bounded(&path("rate_from.along_m"), &bounds::SPACING, *along_m),
            rows_m: take.bounded(&path("rate_from.rows_m"), &bounds::SPACING, *rows_m),
        },
    };
    (given.first().copied(), Planting { others, mixed, grow_in, wean_off, trim, rate_basis, value })
}

/// The planting of a zone as JSON; `None` when there is nothing to say.
#[must_use]
pub fn to_json(own: Option<&OwnCoefficient>, planting: &Planting) -> Option<serde_json::Value> {
    PlantingDto::of(own, planting).and_then(|dto| serde_json::to_value(dto).ok())
}

/// Reads it back, with the constant coefficient that stands beside it.
///
/// # Errors
/// Every problem, by path.
pub fn from_json(
    constant: Option<f64>,
    value: Option<serde_json::Value>,
) -> Result<(Option<OwnCoefficient>, Planting), Vec<PathProblem>> {
    let dto: Option<PlantingDto> = match value {
        None => None,
        Some(value) => Some(
            serde_json::from_value(value)
                .map_err(|error| vec![PathProblem { path: "planting".into(), message: error.to_string() }])?,
        ),
    };
    let mut taker = Checker::default();
    let taken = take(&mut taker, "planting", constant, dto.as_ref());
    taker.finish(taken)
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;

    fn full() -> Planting {
        Planting {
            value: PlantingValue::High,
            others: vec![OtherPlants { plant: PlantKind::FruitTrees, share: Share::from_fraction(0.25) }],
            mixed: MixedRule::AreaWeighted,
            grow_in: Some(GrowIn {
                from: date(2026, 4, 1),
                until: date(2026, 5, 31),
                factor: 1.2,
                root_depth: Metres::from_m(0.05),
            }),
            wean_off: Some(WeanOff { from: date(2026, 6, 1), weeks: 6, start: Share::from_percent(150.0) }),
            trim: Some(Trim { percent: -10.0, reason: "north wall".into() }),
            rate_basis: RateBasis::Emitters { flow_l_per_h: 2.0, along_m: 0.3, rows_m: 0.4 },
        }
    }

    #[test]
    fn what_is_written_is_read_again() {
        for own in [
            None,
            Some(OwnCoefficient::Monthly(ByMonth::all(0.7))),
            Some(OwnCoefficient::Landscape { species: 0.5, density: 1.2 }),
        ] {
            let json = to_json(own.as_ref(), &full());
            assert_eq!(from_json(None, json), Ok((own, full())));
        }
        assert_eq!(
            to_json(Some(&OwnCoefficient::Constant(0.7)), &Planting::default()),
            None,
            "stands in its column"
        );
        assert_eq!(
            from_json(Some(0.7), None),
            Ok((Some(OwnCoefficient::Constant(0.7)), Planting::default()))
        );
    }

    #[test]
    fn every_problem_is_told_at_its_path() {
        let value = serde_json::json!({
            "monthly_coefficients": [0.7, 0.7, 0.7, 0.7, 0.7, 0.7, 0.7, 0.7, 0.7, 0.7, 0.7, 7.0],
            "landscape": { "species_factor": 0.5, "density_factor": 3.0 },
            "others": [{ "plant": "moss", "share": 0.6 }, { "plant": "trees", "share": 1.4 }],
            "grow_in": { "from": "2026-05-01", "until": "2026-04-01", "factor": 1.2, "root_depth_m": 0.1 },
            "wean_off": { "from": "soon", "weeks": 60, "start_pct": 120.0 },
            "trim": { "percent": 80.0, "reason": "" },
        });
        let problems: Vec<_> =
            from_json(Some(0.6), Some(value)).unwrap_err().into_iter().map(|p| p.path).collect();
        assert_eq!(
            problems,
            [
                "planting.monthly_coefficients[11]",
                "planting.landscape.density_factor",
                "planting",
                "planting.others[0].plant",
                "planting.others[1].share",
                "planting.others",
                "planting.grow_in.until",
                "planting.wean_off.from",
                "planting.wean_off.weeks",
                "planting.trim.percent",
                "planting.trim.reason",
            ]
        );
        assert!(from_json(None, Some(serde_json::json!({ "colour": "green" }))).is_err());
    }
}
