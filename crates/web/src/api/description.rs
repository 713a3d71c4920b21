//! The interface as OpenAPI 3.1: a table of its addresses, and the schemas of the very types that they take and answer.

use actix_web::{HttpResponse, get, web};
use schemars::generate::SchemaSettings;
use schemars::{Schema, SchemaGenerator};
use serde_json::{Map, Value, json};
use std::sync::LazyLock;
use upland_formats::api::{self, Problem, Time};
use upland_store::api_tokens::ReadScope;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(description);
}

#[get("/api/v1/openapi.json")]
async fn description() -> HttpResponse {
    HttpResponse::Ok().json(&*DESCRIPTION)
}

/// What opens an address.
enum Key {
    /// Nothing is needed.
    None,
    /// The token of a device.
    Device,
    /// The token of a person that may read this.
    Person(ReadScope),
}

/// Something that stands in an address.
struct Parameter {
    name: &'static str,
    about: &'static str,
    /// `integer`, or `string`; a `date` is a string of that format.
    kind: &'static str,
}

/// An address of the interface.
struct Address {
    method: &'static str,
    path: &'static str,
    about: &'static str,
    key: Key,
    query: &'static [Parameter],
    body: Option<fn(&mut SchemaGenerator) -> Schema>,
    answer: fn(&mut SchemaGenerator) -> Schema,
    /// What it may answer beside what each may.
    failures: &'static [Failure],
}

/// A status and when it is answered.
struct Failure {
    status: u16,
    when: &'static str,
    /// The body is the answer all the same.
    answers: bool,
}

const fn failure(status: u16, when: &'static str) -> Failure {
    Failure { status, when, answers: false }
}

const NUMBERS: [Parameter; 2] = [
    Parameter { name: "id", about: "Number of the site", kind: "integer" },
    Parameter { name: "number", about: "Number of the controller", kind: "integer" },
];

const LIST: [Parameter; 2] = [
    Parameter { name: "from", about: "The place of the first row, from 0", kind: "integer" },
    Parameter { name: "limit", about: "Rows at most; 500 unless fewer are asked for", kind: "integer" },
];

/// Of any address that reads by a token.
const READING: [Failure; 5] = [
    failure(400, "What is asked for behind the address cannot be read"),
    failure(401, "No token, or an unknown one"),
    failure(403, "The token was revoked, or may not read this"),
    failure(429, "Too many requests of this token"),
    failure(503, "Not answered now; ask again"),
];

const NOT_THERE: [Failure; 1] =
    [failure(404, "There is nothing of this number that the token's person sees")];

const ADDRESSES: [Address; 9] = [
    Address {
        method: "post",
        path: "/api/v1/readings",
        about: "Posts readings of a device. A reading is kept once for its sensor, channel and instant, so a post may be sent again.",
        key: Key::Device,
        query: &[],
        body: Some(SchemaGenerator::subschema_for::<api::readings::Post>),
        answer: SchemaGenerator::subschema_for::<api::readings::Taken>,
        failures: &[
            failure(400, "The body is not as described"),
            failure(401, "No token, or an unknown one"),
            failure(403, "The token was revoked"),
            failure(413, "Larger than a megabyte"),
            failure(415, "Not JSON"),
            Failure { status: 422, when: "Every reading was refused", answers: true },
            failure(
                429,
                "Too many posts, or the day's 250 000 new readings are used; Retry-After says how long to wait",
            ),
            failure(503, "Not stored; post again"),
        ],
    },
    Address {
        method: "get",
        path: "/api/v1/time",
        about: "The clock that stamps are judged by.",
        key: Key::None,
        query: &[],
        body: None,
        answer: SchemaGenerator::subschema_for::<Time>,
        failures: &[failure(503, "The clock is not known now; ask again")],
    },
    Address {
        method: "get",
        path: "/api/v1/sites",
        about: "The sites of the token's person, and how each stood when its round was last worked out.",
        key: Key::Person(ReadScope::Sites),
        query: &[
            Parameter {
                name: "after",
                about: "Only sites with higher numbers: the next of the page before",
                kind: "integer",
            },
            Parameter {
                name: "limit",
                about: "Sites at most; 500 unless fewer are asked for",
                kind: "integer",
            },
        ],
        body: None,
        answer: SchemaGenerator::subschema_for::<api::sites::Sites>,
        failures: &[],
    },
    Address {
        method: "get",
        path: "/api/v1/sites/{id}",
        about: "A site with its card and survey, as its file, without access notes.",
        key: Key::Person(ReadScope::Sites),
        query: &[],
        body: None,
        answer: api::site_file,
        failures: &NOT_THERE,
    },
    Address {
        method: "get",
        path: "/api/v1/sites/{id}/controllers/{number}/settings",
        about: "What a controller is set to, as its file.",
        key: Key::Person(ReadScope::Settings),
        query: &[],
        body: None,
        answer: api::settings_file,
        failures: &NOT_THERE,
    },
    Address {
        method: "get",
        path: "/api/v1/sites/{id}/night",
        about: "What the controllers of a site will do in a night, what each zone needs, and whether the two agree.",
        key: Key::Person(ReadScope::Nights),
        query: &[Parameter {
            name: "date",
            about: "The day whose evening the night begins on; tonight when it is missing",
            kind: "date",
        }],
        body: None,
        answer: SchemaGenerator::subschema_for::<api::night::Night>,
        failures: &NOT_THERE,
    },
    Address {
        method: "get",
        path: "/api/v1/sites/{id}/account",
        about: "The water of each zone day by day, at most 400 days at once.",
        key: Key::Person(ReadScope::Account),
        query: &[
            Parameter { name: "from", about: "The first day; a month back when it is missing", kind: "date" },
            Parameter { name: "to", about: "The last day; today when it is missing or later", kind: "date" },
            Parameter {
                name: "policy",
                about: "What counts as watering: best (the best evidence), as-set, as-advised",
                kind: "string",
            },
        ],
        body: None,
        answer: SchemaGenerator::subschema_for::<api::account::Account>,
        failures: &NOT_THERE,
    },
    Address {
        method: "get",
        path: "/api/v1/weekly-list",
        about: "The percentages of all controllers beside what the week asks for, those to change first.",
        key: Key::Person(ReadScope::Nights),
        query: &LIST,
        body: None,
        answer: SchemaGenerator::subschema_for::<api::lists::WeeklyList>,
        failures: &[],
    },
    Address {
        method: "get",
        path: "/api/v1/notices",
        about: "What needs attention at all sites and is not put off, the gravest first.",
        key: Key::Person(ReadScope::Nights),
        query: &LIST,
        body: None,
        answer: SchemaGenerator::subschema_for::<api::lists::Notices>,
        failures: &[],
    },
];

/// Where the description itself is.
const OWN: &str = "/api/v1/openapi.json";

/// The method that an address has; `None` when there is no such address.
pub(super) fn method_of(path: &str) -> Option<&'static str> {
    if path == OWN {
        return Some("GET");
    }
    let fits = |address: &&Address| {
        let (known, asked): (Vec<_>, Vec<_>) = (address.path.split('/').collect(), path.split('/').collect());
        known.len() == asked.len() && known.iter().zip(&asked).all(|(k, a)| k.starts_with('{') || k == a)
    };
    match ADDRESSES.iter().find(fits)?.method {
        "post" => Some("POST"),
        _ => Some("GET"),
    }
}

/// The description, which is the same for everybody.
pub(super) static DESCRIPTION: LazyLock<Value> = LazyLock::new(describe);

fn describe() -> Value {
    let mut settings = SchemaSettings::draft2020_12();
    settings.definitions_path = "/components/schemas".into();
    settings.meta_schema = None;
    let mut generator = settings.into_generator();
    let problem = generator.subschema_for::<Problem>();
    let mut paths = Map::new();
    for address in &ADDRESSES {
        let own = paths.entry(address.path).or_insert_with(|| json!({}));
        if let Some(own) = own.as_object_mut() {
            own.insert(address.method.to_owned(), operation(address, &problem, &mut generator));
        }
    }
    json!({
        "openapi": "3.1.0",
        "info": {
            "title": "Upland Almanac",
            "version": "1",
            "description": "Devices post what they read; other software reads sites, settings, nights and accounts. \
                            Depths of water are in millimetres, instants RFC 3339. Within a version fields are added \
                            and none is taken away.",
            "license": { "name": "AGPL-3.0-or-later", "identifier": "AGPL-3.0-or-later" },
        },
        "servers": [{ "url": "/" }],
        "paths": paths,
        "components": {
            "schemas": generator.take_definitions(true),
            "securitySchemes": {
                "device_token": bearer("The token of a device, made on the page of its sensor".to_owned()),
                "person_token": bearer(format!(
                    "The token of a person, made on the page of their settings; it reads the sites that they see, as far as its scopes go: {}",
                    ReadScope::ALL.map(ReadScope::code).join(", ")
                )),
            },
        },
    })
}

fn bearer(about: String) -> Value {
    json!({ "type": "http", "scheme": "bearer", "description": about })
}

/// An address as OpenAPI says it.
fn operation(address: &Address, problem: &Schema, generator: &mut SchemaGenerator) -> Value {
    let answer = (address.answer)(generator);
    let body_of = |schema: &Schema| json!({ "application/json": { "schema": schema } });
    let mut responses = Map::new();
    responses.insert("200".into(), json!({ "description": "The answer", "content": body_of(&answer) }));
    let common: &[Failure] = if matches!(address.key, Key::Person(_)) { &READING } else { &[] };
    for failure in address.failures.iter().chain(common) {
        let schema = if failure.answers { &answer } else { problem };
        let told = json!({ "description": failure.when, "content": body_of(schema) });
        responses.insert(failure.status.to_string(), told);
    }
    let parameter = |place: &str, own: &Parameter| {
        let schema = match own.kind {
            "date" => json!({ "type": "string", "format": "date" }),
            kind => json!({ "type": kind }),
        };
        json!({ "name": own.name, "in": place, "required": place == "path", "description": own.about, "schema": schema })
    };
    let in_path = NUMBERS.iter().filter(|own| address.path.contains(&format!("{{{}}}", own.name)));
    let mut parameters: Vec<Value> = in_path.map(|own| parameter("path", own)).collect();
    parameters.extend(address.query.iter().map(|own| parameter("query", own)));
    let mut operation = Map::new();
    operation.insert("summary".into(), json!(address.about));
    operation.insert("parameters".into(), json!(parameters));
    operation.insert("responses".into(), json!(responses));
    if let Some(body) = address.body {
        let body = json!({ "required": true, "content": body_of(&body(generator)) });
        operation.insert("requestBody".into(), body);
    }
    let security = match address.key {
        Key::None => json!([]),
        Key::Device => json!([{ "device_token": [] }]),
        Key::Person(scope) => json!([{ "person_token": [scope.code()] }]),
    };
    operation.insert("security".into(), security);
    Value::Object(operation)
}
