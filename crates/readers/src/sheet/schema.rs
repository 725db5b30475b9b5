//! The shape of a sheet as a JSON Schema, made from the types that sheets are read into.

use super::rule::OrderedRule;
use super::rule_base::{Forwarding, Hiding, RuleList};
use super::{FORM, FORMER, FROM_FILES, briefly, names, short, words};
use schemars::generate::SchemaSettings;
use schemars::{JsonSchema, SchemaGenerator};
use serde_json::{Map, Value, json};
use trevlin_model::written::ORIGIN;
use trevlin_model::{DeviceKind, Facts, each_section};

/// The JSON Schema of a device sheet, draft 2020-12.
#[must_use]
pub fn schema() -> Value {
    let mut generator = SchemaSettings::draft2020_12().into_generator();
    let mut properties = Map::new();
    let kinds = [DeviceKind::Firewall, DeviceKind::Router, DeviceKind::Server, DeviceKind::Storage];
    properties.insert("sheet".into(), json!({ "enum": [FORM, FORMER] }));
    properties.insert("device".into(), json!({ "type": "string", "description": "Name of the device." }));
    properties.insert("kind".into(), json!({ "enum": kinds.map(DeviceKind::word) }));
    properties.insert(
        "files".into(),
        json!({ "type": "array", "items": { "type": "string" },
                "description": "Paths of the device's files that were reviewed, as its settings name them." }),
    );
    properties.insert(
        "complete".into(),
        json!({ "type": "boolean",
                "description": "Whether the sheet is complete, so that settings not stated are at their defaults." }),
    );
    // An empty list states that there is no rule base.
    let rule_list = of::<RuleList>(&mut generator);
    properties
        .insert("rule-list".into(), json!({ "anyOf": [rule_list, { "type": "array", "maxItems": 0 }] }));
    properties.insert("zones".into(), list(of::<names::Zone>(&mut generator)));
    properties.insert("address-names".into(), list(of::<names::AddressName>(&mut generator)));
    properties.insert("service-names".into(), list(of::<names::ServiceName>(&mut generator)));
    properties.insert("rules".into(), list(of::<OrderedRule>(&mut generator)));
    properties.insert("lists".into(), list(of::<super::rule_base::NamedList>(&mut generator)));
    properties.insert("forwards".into(), list(of::<Forwarding>(&mut generator)));
    properties.insert("translations".into(), list(of::<Hiding>(&mut generator)));
    properties.insert("secrets".into(), list(of::<super::SheetSecret>(&mut generator)));
    macro_rules! sections {
        ($($field:ident = $name:literal,)*) => {$(
            let entry = of_entries(&mut generator, |facts| &facts.$field);
            properties.insert($name.into(), section(entry));
        )*};
    }
    each_section!(sections);
    let mut definitions = generator.take_definitions(true);
    name_files(&properties, &mut definitions);
    shorter(&properties, &mut definitions);
    if let Some(server) = definitions.get_mut("SshServer") {
        server["properties"]["settings"] = json!({
            "type": "object",
            "description": "Settings that apply to every connection, by keyword of sshd_config(5), instead of `blocks`.",
        });
    }
    let mut whole = json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Trevlin device sheet",
        "description": "What is known about one device, in TOML or JSON. Every table may state in `seen` its source: a \
                        screen or page, and a date.",
        "type": "object",
        "required": ["sheet"],
        "additionalProperties": false,
        "properties": properties,
        "$defs": definitions,
    });
    let definitions = whole["$defs"].clone();
    tidy(&mut whole, &definitions);
    if let Some(definitions) = whole["$defs"].as_object_mut() {
        definitions.remove(ORIGIN);
    }
    whole
}

fn of<T: JsonSchema>(generator: &mut SchemaGenerator) -> Value {
    generator.subschema_for::<T>().to_value()
}

/// The schema of the entries of a list of facts.
fn of_entries<T: JsonSchema>(generator: &mut SchemaGenerator, _: fn(&Facts) -> &Vec<T>) -> Value {
    of::<T>(generator)
}

fn list(items: Value) -> Value {
    json!({ "type": "array", "items": items })
}

/// A section's schema: a single value may be written under `is`, together with the place where it was seen.
fn section(entry: Value) -> Value {
    if entry.get("$ref").is_some() {
        return list(entry);
    }
    list(
        json!({ "anyOf": [{ "type": "object", "required": ["is"], "properties": { "is": entry.clone() } }, entry] }),
    )
}

/// Entries of some sections name the file that they come from.
fn name_files(properties: &Map<String, Value>, definitions: &mut Map<String, Value>) {
    for name in FROM_FILES {
        let reference = properties[name]["items"]["$ref"].as_str().and_then(|path| path.rsplit('/').next());
        if let Some(entry) = reference.and_then(|name| definitions.get_mut(name)) {
            if name == "logins" {
                entry["properties"]["hash"] = json!({ "$ref": "#/$defs/secret", "description": "The hash of its password, in place of `secret`." });
                entry["properties"]["off"] = json!({ "type": "boolean", "description": "Whether it is switched off, so that it is no login." });
            }
            entry["properties"]["file"] = json!({ "type": "string", "description": "Path of the corresponding file, as \
                                                                                    others refer to it." });
        }
    }
}

/// The definition of the entries of a section.
fn entry_of(properties: &Map<String, Value>, section: &str) -> Option<String> {
    let reference = properties.get(section)?["items"]["$ref"].as_str()?;
    reference.rsplit('/').next().map(str::to_owned)
}

/// The definition that keys within an entry lead to.
fn below(definitions: &Map<String, Value>, from: String, path: &[&str]) -> Option<String> {
    let Some((first, rest)) = path.split_first() else { return Some(from) };
    let field = &definitions.get(&from)?["properties"][*first];
    let inner = [field, &field["items"]]
        .into_iter()
        .chain(field["anyOf"].as_array().into_iter().flatten())
        .find_map(|one| one["$ref"].as_str())?;
    below(definitions, inner.rsplit('/').next()?.to_owned(), rest)
}

/// Shorter forms of entries: plain words for tables, other names of keys, and what only programs have.
fn shorter(properties: &Map<String, Value>, definitions: &mut Map<String, Value>) {
    let word = || json!({ "type": "string" });
    let no_need = |definition: &mut Value, key: &str| {
        if let Some(required) = definition["required"].as_array_mut() {
            required.retain(|one| one != key);
        }
    };
    for one in &short::AROUND {
        let Some((key, path)) = one.path.split_last() else { continue };
        let place = entry_of(properties, one.section).and_then(|entry| below(definitions, entry, path));
        let Some(definition) = place.and_then(|name| definitions.get_mut(&name)) else { continue };
        let field = &mut definition["properties"][*key];
        let whole = if field["items"].is_null() { field } else { &mut field["items"] };
        if !whole.is_null() {
            *whole = match one.key {
                "source" => json!({ "anyOf": [word(), whole.clone(), { "$ref": "#/$defs/PasswordSource" }] }),
                _ => json!({ "anyOf": [word(), whole.clone()] }),
            };
        }
    }
    // Words of screens that stand for values.
    let spelled = words::places().chain(briefly::SPELLED).map(|place| (place, word()));
    let brief = briefly::places().map(|place| (place, briefly::words()));
    for ((section, path), form) in spelled.chain(brief) {
        let Some((key, path)) = path.split_last() else { continue };
        let place = entry_of(properties, section).and_then(|entry| below(definitions, entry, path));
        if let Some(definition) = place.and_then(|name| definitions.get_mut(&name)) {
            let whole = definition["properties"][*key].clone();
            definition["properties"][*key] =
                json!({ "anyOf": [whole, form], "description": whole["description"] });
        }
    }
    for (section, from, to) in short::RENAMED {
        let entry = entry_of(properties, section);
        let Some(definition) = entry.and_then(|name| definitions.get_mut(&name)) else { continue };
        no_need(definition, to);
        let mut field = definition["properties"][to].clone();
        if field.is_null() {
            field = word();
        }
        definition["properties"][from] = field;
    }
    for (section, path, key, _) in short::USUAL {
        let place = entry_of(properties, section).and_then(|entry| below(definitions, entry, path));
        if let Some(definition) = place.and_then(|name| definitions.get_mut(&name)) {
            no_need(definition, key);
        }
    }
    let mut change = |section: &str, change: &dyn Fn(&mut Value)| {
        if let Some(definition) = entry_of(properties, section).and_then(|name| definitions.get_mut(&name)) {
            change(definition);
        }
    };
    change("radius-targets", &|one| no_need(one, "asked-by"));
    change("accounts", &|one| ["uid", "gid", "shell"].into_iter().for_each(|key| no_need(one, key)));
    change("permissions", &|one| {
        let whole = one["properties"]["who"].clone();
        one["properties"]["who"] = json!({ "anyOf": [word(), whole], "description": whole["description"] });
    });
    change("logins", &|one| {
        no_need(one, "list");
        let whole = one["properties"]["expires"].clone();
        one["properties"]["expires"] = json!({ "anyOf": [word(), whole] });
    });
    change("tunnels", &|one| {
        one["properties"]["remote"] =
            json!({ "type": "string", "description": "Other end of a tunnel that only encapsulates." });
        let authorities = json!({ "type": "array", "items": word(), "description": "Authorities trusted for client certificates, by name." });
        one["properties"]["client-authorities"] = authorities;
    });
    let ipsec = entry_of(properties, "tunnels").and_then(|entry| below(definitions, entry, &["ipsec"]));
    if let Some(definition) = ipsec.and_then(|name| definitions.get_mut(&name)) {
        no_need(definition, "name");
    }
}

fn is_place(value: &Value) -> bool {
    value.get("$ref").and_then(Value::as_str).is_some_and(|name| name.ends_with(ORIGIN))
}

/// Brings a schema from the shape of the types to that of a sheet: places are not written, what has a usual value may be left out, a
/// list of one may be written without brackets, and truths may be words.
fn tidy(value: &mut Value, definitions: &Value) {
    if let Some((plain, done)) = plain(value) {
        *value = plain;
        if done {
            return;
        }
    }
    match value {
        Value::Object(map) => {
            object(map, definitions);
            for (key, inner) in map.iter_mut() {
                if !matches!(key.as_str(), "required" | "enum" | "const") {
                    tidy(inner, definitions);
                }
            }
            let single = map.get("type") == Some(&json!("array")) && map.contains_key("items");
            if single && !map.contains_key("description") {
                let items = map["items"].clone();
                let whole = Value::Object(std::mem::take(map));
                *map = Map::from_iter([("anyOf".to_owned(), json!([whole, items]))]);
            }
        }
        Value::Array(all) => all.iter_mut().for_each(|one| tidy(one, definitions)),
        _ => {}
    }
}

/// Replacement for a type that contains a place, and whether it is complete.
fn plain(value: &Value) -> Option<(Value, bool)> {
    let truth = || json!({ "anyOf": [{ "type": "boolean" }, { "enum": ["yes", "no"] }] });
    let about = |mut plain: Value| {
        if let (Some(text), Some(map)) = (value.get("description"), plain.as_object_mut()) {
            map.insert("description".into(), text.clone());
        }
        plain
    };
    // A value and its place.
    if let Some([first, second]) = value.get("prefixItems").and_then(Value::as_array).map(Vec::as_slice)
        && is_place(second)
    {
        return Some(match first.get("type") == Some(&json!("boolean")) {
            true => (about(truth()), true),
            false => (about(first.clone()), false),
        });
    }
    if value.get("items").is_some_and(is_place) || value.get("type") == Some(&json!("boolean")) {
        return Some((about(truth()), true));
    }
    if value.get("type") == Some(&json!(["boolean", "null"])) {
        return Some((about(truth()), true));
    }
    let choices = value.get("anyOf").and_then(Value::as_array)?;
    choices.iter().any(is_place).then(|| (about(truth()), true))
}

fn object(map: &mut Map<String, Value>, definitions: &Value) {
    let Some(Value::Object(properties)) = map.get_mut("properties") else { return };
    let places: Vec<String> = properties
        .iter()
        .filter(|(key, value)| key.ends_with("origin") && is_field_place(value))
        .map(|one| one.0.clone())
        .collect();
    for key in &places {
        properties.remove(key);
    }
    let needed = |name: &str, properties: &Map<String, Value>| {
        properties.get(name).is_some_and(|value| is_needed(value, definitions))
    };
    let closed = map.get("additionalProperties") == Some(&Value::Bool(false));
    let required = map.get("required").and_then(Value::as_array).cloned().unwrap_or_default();
    let Some(Value::Object(properties)) = map.get_mut("properties") else { return };
    let kept: Vec<Value> = required
        .into_iter()
        .filter(|name| name.as_str().is_some_and(|name| needed(name, properties)))
        .collect();
    if closed && !properties.contains_key("sheet") {
        properties.insert(
            "seen".into(),
            json!({ "type": "string", "description": "Source of the statement: a screen or page, and a date." }),
        );
    }
    if kept.is_empty() {
        map.remove("required");
    } else {
        map.insert("required".into(), Value::Array(kept));
    }
}

fn is_field_place(value: &Value) -> bool {
    is_place(value)
        || value.get("anyOf").and_then(Value::as_array).is_some_and(|all| all.iter().any(is_place))
}

/// Whether a field has no usual value.
fn is_needed(value: &Value, definitions: &Value) -> bool {
    if let Some(name) = value.get("$ref").and_then(Value::as_str).and_then(|name| name.rsplit('/').next()) {
        return definitions.get(name).is_some_and(|inner| {
            inner.get("oneOf").is_some() || inner.get("enum").is_some() || scalar(inner) || name == "secret"
        });
    }
    if let Some([first, second]) = value.get("prefixItems").and_then(Value::as_array).map(Vec::as_slice)
        && is_place(second)
    {
        return value.get("type") == Some(&json!("array")) && is_needed(first, definitions);
    }
    scalar(value)
}

fn scalar(value: &Value) -> bool {
    match value.get("type") {
        Some(Value::String(kind)) => matches!(kind.as_str(), "string" | "integer" | "number"),
        Some(Value::Array(kinds)) => !kinds.contains(&json!("null")),
        _ => false,
    }
}
