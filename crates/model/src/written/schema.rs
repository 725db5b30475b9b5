//! JSON Schema of the types whose written form differs from that of their fields.

use super::{ORIGIN, STATES};
use crate::{ConnectionStates, Match, MatchKind, Origin, SecretRecord, Setting};
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use std::borrow::Cow;

impl JsonSchema for Origin {
    fn schema_name() -> Cow<'static, str> {
        ORIGIN.into()
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({ "type": "boolean" })
    }
}

impl JsonSchema for SecretRecord {
    fn schema_name() -> Cow<'static, str> {
        "secret".into()
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({
            "description": "A secret: the text itself, or `{ withheld = true }` for a secret that is not disclosed here.",
            "anyOf": [
                { "type": "string" },
                { "type": "object", "properties": { "withheld": {} }, "required": ["withheld"] },
            ],
        })
    }
}

impl<T: JsonSchema> JsonSchema for Setting<T> {
    fn inline_schema() -> bool {
        true
    }

    fn schema_name() -> Cow<'static, str> {
        format!("setting-of-{}", T::schema_name()).into()
    }

    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        let value = generator.subschema_for::<T>();
        json_schema!({
            "anyOf": [
                value,
                { "type": "object", "description": "Default that applies where nothing is stated.",
                  "properties": { "defaults": { "type": "array", "items": {
                    "type": "object",
                    "properties": { "value": value, "daemon": { "type": "string" }, "versions": { "type": "string" },
                                    "source": { "type": "string" } } } } },
                  "required": ["defaults"] },
                { "type": "object", "description": "Not known; states what is missing.",
                  "properties": { "unknown": { "type": "string" } }, "required": ["unknown"] },
            ],
        })
    }
}

impl JsonSchema for Match {
    fn schema_name() -> Cow<'static, str> {
        "Match".into()
    }

    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        let kind = generator.subschema_for::<MatchKind>();
        json_schema!({
            "description": "One condition of a rule; under `not` it must not hold.",
            "anyOf": [kind, { "type": "object", "properties": { "not": kind }, "required": ["not"] }],
        })
    }
}

impl JsonSchema for ConnectionStates {
    fn schema_name() -> Cow<'static, str> {
        "states".into()
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({ "type": "array", "items": { "enum": STATES }, "description": "States of a connection." })
    }
}
