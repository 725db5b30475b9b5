//! Converts values of a document to facts: each type of the model states its structure, and each value has its place.
//!
//! Long because it has one function for each type of the model, with the message for each mismatch.

use super::node::{Entry, Node, Step, Value};
use serde::Deserialize;
use serde::de::{self, DeserializeSeed, Deserializer, Unexpected, Visitor};
use std::fmt;
use std::sync::Arc;
use trevlin_model::written::{NOT, ORIGIN, SECRET, SETTING};
use trevlin_model::{Note, Origin};

/// How many things may be wrong with one entry before it is given up.
const FAULTS: usize = 30;

/// Error of a value.
#[derive(Debug)]
pub(super) struct Fault {
    /// Where, once known.
    at: Option<Origin>,
    /// The error, with the expected content; none where the value counts as absent.
    what: Option<String>,
    /// The path to it from the entry, innermost first: several values may be at one place.
    path: Vec<Step>,
}

impl Fault {
    fn at(mut self, origin: Origin) -> Self {
        self.at.get_or_insert(origin);
        self
    }

    fn below(mut self, step: Step) -> Self {
        self.path.push(step);
        self
    }
}

impl fmt::Display for Fault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.what.as_deref().unwrap_or_default())
    }
}

impl std::error::Error for Fault {}

fn fault(what: impl Into<String>) -> Fault {
    Fault { at: None, what: Some(what.into()), path: Vec::new() }
}

impl de::Error for Fault {
    fn custom<T: fmt::Display>(what: T) -> Self {
        fault(what.to_string())
    }

    fn invalid_type(found: Unexpected<'_>, expected: &dyn de::Expected) -> Self {
        let expected = expected.to_string();
        // The names of types say nothing to the author of a sheet.
        let expected = match expected.as_str() {
            "u8" | "u16" | "u32" | "u64" | "usize" | "i8" | "i16" | "i32" | "i64" => "a whole number",
            "a boolean" => "yes or no",
            other => other,
        };
        fault(format!("this is {}; expected {expected}", words(found)))
    }

    fn invalid_value(found: Unexpected<'_>, expected: &dyn de::Expected) -> Self {
        fault(format!("{} is not valid; expected {expected}", words(found)))
    }

    fn unknown_field(field: &str, expected: &'static [&'static str]) -> Self {
        let known: Vec<&str> = expected.iter().copied().filter(|name| *name != "origin").collect();
        fault(format!("`{field}` is not a key at this place; {}", nearest(field, &known)))
    }

    fn unknown_variant(variant: &str, expected: &'static [&'static str]) -> Self {
        fault(format!("`{variant}` is not known; {}", nearest(variant, expected)))
    }

    fn missing_field(field: &'static str) -> Self {
        fault(format!("`{field}` is missing"))
    }
}

fn words(found: Unexpected<'_>) -> String {
    match found {
        Unexpected::Str(text) => format!("`{text}`"),
        Unexpected::Bool(truth) => format!("`{truth}`"),
        Unexpected::Signed(number) => format!("`{number}`"),
        Unexpected::Unsigned(number) => format!("`{number}`"),
        Unexpected::Float(number) => format!("`{number}`"),
        Unexpected::Seq => "a list".into(),
        Unexpected::Map => "a table".into(),
        other => other.to_string(),
    }
}

/// Whether a word states that a setting is off.
fn is_off(word: &str) -> bool {
    crate::serving::truth(word) == Some(false)
        || ["none", "disabled"].iter().any(|off| word.eq_ignore_ascii_case(off))
}

/// The known word that another one is a slip for.
pub(crate) fn near<'a>(word: &str, known: &[&'a str]) -> Option<&'a str> {
    let distance = |one: &&'a str| (strsim::damerau_levenshtein(word, one), *one);
    let (far, one) = known.iter().map(distance).min()?;
    (far <= 1 + word.len() / 4).then_some(one)
}

/// How many known words a message lists.
const LISTED: usize = 20;

/// The known word that is nearest to one that is not known, or all of them, the first ones where they are many.
pub(crate) fn nearest(word: &str, known: &[&str]) -> String {
    match near(word, known) {
        Some(one) => format!("did you mean `{one}`?"),
        None if known.is_empty() => "no name is defined here".into(),
        None if known.len() > LISTED => {
            format!("expected one of: {} and {} more", known[..LISTED].join(", "), known.len() - LISTED)
        }
        None => format!("expected one of: {}", known.join(", ")),
    }
}

/// Reads an entry. Errors are noted and the parts concerned left out; `None` where nothing usable is left.
pub(crate) fn take<T: for<'de> Deserialize<'de>>(node: &Node, notes: &mut Vec<Note>) -> Option<T> {
    let mut taken = None;
    try_to_take(node, notes, &mut |node| {
        taken = Some(T::deserialize(Give::Node(node))?);
        Ok(())
    });
    taken
}

/// Reads until no error is left, without the erroneous parts.
fn try_to_take(node: &Node, notes: &mut Vec<Note>, read: &mut dyn FnMut(&Node) -> Result<(), Fault>) {
    let Err(mut fault) = read(node) else { return };
    let mut rest = node.clone();
    for _ in 0..FAULTS {
        let at = fault.at.unwrap_or(node.origin);
        if let Some(what) = fault.what.take() {
            // Some types say what is wrong and not with what.
            let text = match rest.find(at).and_then(Node::text).filter(|_| !what.contains('`')) {
                Some(value) => format!("`{value}`: {what}"),
                None => what,
            };
            // A value missing because it was removed is reported already.
            let told =
                notes.iter().any(|note: &Note| at.start <= note.origin.start && note.origin.end <= at.end);
            if !(told && text.ends_with("is required here")) {
                notes.push(Note { origin: at, text });
            }
        }
        let mut path = std::mem::take(&mut fault.path);
        path.reverse();
        if path.is_empty() || !rest.remove(&path) {
            return;
        }
        match read(&rest) {
            Ok(()) => return,
            Err(another) => fault = another,
        }
    }
}

/// The value passed to a type's deserialiser.
#[derive(Clone, Copy)]
enum Give<'a> {
    /// A value of the document.
    Node(&'a Node),
    /// No value, in an entry at this place.
    Missing(Origin),
    /// A place.
    Place(Origin),
    /// A number of ours.
    Number(u32),
    /// A truth of ours.
    Truth(bool),
    /// A text of ours.
    Text(&'a str),
}

const SILENT: &str = "it is not stated";

/// A value that was looked for and is on no screen: known to be missing, for settings; absent for everything else.
pub(super) const NOT_SEEN: &str = "no screen of the device shows it";

/// The error of such a value where a plain one is expected: it is left out without a message.
fn absent() -> Fault {
    Fault { at: None, what: None, path: Vec::new() }
}

impl<'a> Give<'a> {
    fn origin(self) -> Option<Origin> {
        match self {
            Self::Node(node) => Some(node.origin),
            Self::Missing(origin) | Self::Place(origin) => Some(origin),
            _ => None,
        }
    }

    fn located(self, fault: Fault) -> Fault {
        match self.origin() {
            Some(origin) => fault.at(origin),
            None => fault,
        }
    }

    /// Whether it was looked for and is on no screen.
    fn is_not_seen(self) -> bool {
        self.only("unknown").is_some_and(|why| why.text() == Some(NOT_SEEN))
    }

    /// The error where another type is expected: the same as a visitor's, without every type accepting every kind of value, which would be
    /// most of the code for reading the model.
    fn misfit(self, expected: &dyn de::Expected) -> Fault {
        let found = match self {
            Self::Node(node) => match &node.value {
                Value::Text(text) => Unexpected::Str(text),
                Value::Number(number) => Unexpected::Signed(*number),
                Value::Fraction(number) => Unexpected::Float(*number),
                Value::Truth(truth) => Unexpected::Bool(*truth),
                Value::List(_) => Unexpected::Seq,
                Value::Table(_) => Unexpected::Map,
            },
            Self::Missing(_) => return fault("a value is missing here"),
            Self::Place(_) => Unexpected::Bool(true),
            Self::Number(number) => Unexpected::Unsigned(number.into()),
            Self::Truth(truth) => Unexpected::Bool(truth),
            Self::Text(text) => Unexpected::Str(text),
        };
        de::Error::invalid_type(found, expected)
    }

    /// The fields of a struct.
    fn fields(
        self,
        fields: &'static [&'static str],
        expected: &dyn de::Expected,
    ) -> Result<Fields<'a>, Fault> {
        match self {
            _ if self.is_not_seen() => Err(absent()),
            Self::Node(node) if matches!(node.value, Value::Table(_)) => {
                Ok(Fields::of(node.entries(), fields, node.origin))
            }
            Self::Missing(origin) => Ok(Fields::of(&[], fields, origin)),
            Self::Node(node) => Err(fault(format!("this is {}; expected a table", node.kind()))),
            _ => Err(self.misfit(expected)),
        }
    }

    /// Which of several it is.
    fn variant(self, variants: &[&'static str], expected: &dyn de::Expected) -> Result<Variant<'a>, Fault> {
        let one_of = || fault(format!("one of these is expected here: {}", variants.join(", ")));
        if self.is_not_seen() {
            return Err(absent());
        }
        let node = match self {
            Self::Node(node) => node,
            Self::Missing(_) => return Err(one_of()),
            _ => return Err(self.misfit(expected)),
        };
        match &node.value {
            // Screens write words with capitals.
            Value::Text(text) => {
                let name = variants.iter().find(|one| one.eq_ignore_ascii_case(text)).copied();
                let name = name.unwrap_or(text);
                Ok(Variant { name, name_origin: node.origin, content: Give::Missing(node.origin), key: None })
            }
            Value::Table(entries) => match entries.as_slice() {
                [only] => Ok(Variant {
                    name: &only.key,
                    name_origin: only.key_origin,
                    content: Give::Node(&only.node),
                    key: Some(&only.key),
                }),
                _ => Err(one_of()),
            },
            _ => Err(fault(format!("this is {}; expected one of: {}", node.kind(), variants.join(", ")))),
        }
    }

    /// The only value of a table with one key, where it is this one.
    fn only(self, key: &str) -> Option<&'a Node> {
        match self {
            Self::Node(node) => match node.entries() {
                [only] if &*only.key == key => Some(&only.node),
                _ => None,
            },
            _ => None,
        }
    }
}

/// Several things handed over one after the other.
struct Parts<'a, const N: usize>([Give<'a>; N], usize);

impl<'de, const N: usize> de::SeqAccess<'de> for Parts<'_, N> {
    type Error = Fault;

    fn next_element_seed<T: DeserializeSeed<'de>>(&mut self, seed: T) -> Result<Option<T::Value>, Fault> {
        let Some(next) = self.0.get(self.1) else { return Ok(None) };
        self.1 += 1;
        seed.deserialize(*next).map(Some).map_err(|fault| next.located(fault))
    }
}

struct List<'a>(std::iter::Enumerate<std::slice::Iter<'a, Node>>);

impl<'de> de::SeqAccess<'de> for List<'_> {
    type Error = Fault;

    fn next_element_seed<T: DeserializeSeed<'de>>(&mut self, seed: T) -> Result<Option<T::Value>, Fault> {
        let Some((at, next)) = self.0.next() else { return Ok(None) };
        let read = seed.deserialize(Give::Node(next)).map(Some);
        read.map_err(|fault| fault.at(next.origin).below(Step::Index(at)))
    }

    fn size_hint(&self) -> Option<usize> {
        Some(self.0.len())
    }
}

/// The fields of a type: those that are stated, then those that are not.
///
/// The part that is the same for every type, to keep the code generated for each of hundreds of types small.
struct Fields<'a> {
    entries: std::slice::Iter<'a, Entry>,
    stated: &'a [Entry],
    fields: std::slice::Iter<'static, &'static str>,
    whole: Origin,
    next: Next<'a>,
}

/// The value whose key was read.
#[derive(Clone, Copy)]
enum Next<'a> {
    Stated(&'a Entry),
    Missing(&'static str),
}

impl<'a> Fields<'a> {
    fn of(stated: &'a [Entry], fields: &'static [&'static str], whole: Origin) -> Self {
        Self { entries: stated.iter(), stated, fields: fields.iter(), whole, next: Next::Missing("") }
    }

    fn next_key(&mut self) -> Option<&'a str> {
        if let Some(entry) = self.entries.next() {
            self.next = Next::Stated(entry);
            return Some(if &*entry.key == "origin" { "origin of a fact" } else { &entry.key });
        }
        let stated = self.stated;
        let field = self.fields.by_ref().find(|field| !stated.iter().any(|entry| &*entry.key == **field))?;
        self.next = Next::Missing(field);
        Some(field)
    }

    fn value(&self) -> Give<'a> {
        match self.next {
            Next::Stated(entry) => Give::Node(&entry.node),
            Next::Missing("origin") => Give::Place(self.whole),
            Next::Missing(_) => Give::Missing(self.whole),
        }
    }

    fn key_fault(&self, fault: Fault) -> Fault {
        match self.next {
            Next::Stated(entry) => fault.at(entry.key_origin).below(Step::Key(Arc::clone(&entry.key))),
            Next::Missing(_) => fault,
        }
    }

    fn value_fault(&self, fault: Fault) -> Fault {
        let fault = self.value().located(fault);
        match self.next {
            Next::Stated(entry) => fault.below(Step::Key(Arc::clone(&entry.key))),
            // A missing field is missing in the whole entry.
            Next::Missing(name) => missing(fault, name),
        }
    }
}

impl<'de> de::MapAccess<'de> for Fields<'_> {
    type Error = Fault;

    fn next_key_seed<K: DeserializeSeed<'de>>(&mut self, seed: K) -> Result<Option<K::Value>, Fault> {
        let Some(key) = self.next_key() else { return Ok(None) };
        seed.deserialize(Give::Text(key)).map(Some).map_err(|fault| self.key_fault(fault))
    }

    fn next_value_seed<V: DeserializeSeed<'de>>(&mut self, seed: V) -> Result<V::Value, Fault> {
        seed.deserialize(self.value()).map_err(|fault| self.value_fault(fault))
    }
}

/// One of several, and what belongs to it.
struct Variant<'a> {
    name: &'a str,
    name_origin: Origin,
    content: Give<'a>,
    /// The key that names it, where one does.
    key: Option<&'a Arc<str>>,
}

impl<'de, 'a> de::EnumAccess<'de> for Variant<'a> {
    type Error = Fault;
    type Variant = Give<'a>;

    fn variant_seed<V: DeserializeSeed<'de>>(self, seed: V) -> Result<(V::Value, Give<'a>), Fault> {
        let name = seed.deserialize(Give::Text(self.name)).map_err(|fault| fault.at(self.name_origin))?;
        Ok((name, self.content))
    }
}

impl<'de> de::VariantAccess<'de> for Give<'_> {
    type Error = Fault;

    fn unit_variant(self) -> Result<(), Fault> {
        Ok(())
    }

    fn newtype_variant_seed<T: DeserializeSeed<'de>>(self, seed: T) -> Result<T::Value, Fault> {
        seed.deserialize(self).map_err(|fault| self.located(fault))
    }

    fn tuple_variant<V: Visitor<'de>>(self, len: usize, visitor: V) -> Result<V::Value, Fault> {
        self.deserialize_tuple(len, visitor)
    }

    fn struct_variant<V: Visitor<'de>>(
        self,
        fields: &'static [&'static str],
        visitor: V,
    ) -> Result<V::Value, Fault> {
        self.deserialize_struct("", fields, visitor)
    }
}

/// Whole numbers, as numbers or as texts.
macro_rules! whole_numbers {
    ($($method:ident)*) => {$(
        fn $method<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Fault> {
            match self {
                Self::Node(Node { value: Value::Text(text), .. }) if text.parse::<i64>().is_ok() => {
                    visitor.visit_i64(text.parse().unwrap_or_default())
                }
                _ => self.deserialize_any(visitor),
            }
        }
    )*};
}

impl<'de> Deserializer<'de> for Give<'_> {
    type Error = Fault;

    fn deserialize_any<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Fault> {
        match self {
            _ if self.is_not_seen() => Err(absent()),
            Self::Node(node) => match &node.value {
                Value::Text(text) => visitor.visit_str(text),
                Value::Number(number) => visitor.visit_i64(*number),
                Value::Fraction(number) => visitor.visit_f64(*number),
                Value::Truth(truth) => visitor.visit_bool(*truth),
                Value::List(all) => visitor.visit_seq(List(all.iter().enumerate())),
                Value::Table(entries) => visitor.visit_map(Fields::of(entries, &[], node.origin)),
            },
            Self::Missing(_) => Err(fault("a value is missing here")),
            Self::Place(_) => visitor.visit_bool(true),
            Self::Number(number) => visitor.visit_u32(number),
            Self::Truth(truth) => visitor.visit_bool(truth),
            Self::Text(text) => visitor.visit_str(text),
        }
    }

    fn deserialize_bool<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Fault> {
        match self {
            Self::Missing(_) => visitor.visit_bool(false),
            Self::Node(Node { value: Value::Text(text), .. }) if crate::serving::truth(text).is_some() => {
                visitor.visit_bool(crate::serving::truth(text) == Some(true))
            }
            _ => self.deserialize_any(visitor),
        }
    }

    whole_numbers! {
        deserialize_i8 deserialize_i16 deserialize_i32 deserialize_i64
        deserialize_u8 deserialize_u16 deserialize_u32 deserialize_u64
    }

    fn deserialize_str<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Fault> {
        match self {
            // A port, or a number of a protocol.
            Self::Node(Node { value: Value::Number(number), .. }) => visitor.visit_str(&number.to_string()),
            _ => self.deserialize_any(visitor),
        }
    }

    fn deserialize_string<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Fault> {
        self.deserialize_str(visitor)
    }

    fn deserialize_option<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Fault> {
        match self {
            Self::Missing(_) => visitor.visit_none(),
            Self::Node(Node { value: Value::List(all), .. }) if all.is_empty() => visitor.visit_none(),
            _ if self.only("none").is_some() => visitor.visit_none(),
            _ => visitor.visit_some(self),
        }
    }

    fn deserialize_seq<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Fault> {
        match self {
            _ if self.is_not_seen() => Err(absent()),
            Self::Missing(_) => visitor.visit_seq(List([].iter().enumerate())),
            Self::Node(node) => visitor.visit_seq(List(node.each().iter().enumerate())),
            _ => Err(self.misfit(&visitor)),
        }
    }

    fn deserialize_tuple<V: Visitor<'de>>(self, len: usize, visitor: V) -> Result<V::Value, Fault> {
        match self {
            _ if self.is_not_seen() => Err(absent()),
            Self::Node(Node { value: Value::List(all), .. }) if all.len() == len => {
                visitor.visit_seq(List(all.iter().enumerate()))
            }
            // A value, and where it stands.
            Self::Node(node) if len == 2 => visitor.visit_seq(Parts([self, Give::Place(node.origin)], 0)),
            Self::Node(Node { value: Value::List(_), .. }) => Err(fault(format!("expected {len} values"))),
            _ => Err(self.misfit(&visitor)),
        }
    }

    fn deserialize_tuple_struct<V: Visitor<'de>>(
        self,
        _: &'static str,
        len: usize,
        visitor: V,
    ) -> Result<V::Value, Fault> {
        self.deserialize_tuple(len, visitor)
    }

    fn deserialize_newtype_struct<V: Visitor<'de>>(
        self,
        name: &'static str,
        visitor: V,
    ) -> Result<V::Value, Fault> {
        match (name, self) {
            // A disabled setting counts as absent.
            (ORIGIN, Self::Node(Node { value: Value::Truth(false), .. })) => Err(absent()),
            (ORIGIN, Self::Node(node)) if node.text().is_some_and(is_off) => Err(absent()),
            // A value that was looked for and not seen is no statement.
            (ORIGIN, _) if self.is_not_seen() => Err(absent()),
            (ORIGIN, _) => {
                let origin = self.origin().ok_or_else(|| fault("a place is missing here"))?;
                let numbers = [origin.export.0, origin.start, origin.end].map(Give::Number);
                visitor.visit_seq(Parts(numbers, 0))
            }
            (SETTING, Self::Missing(_)) => visitor.visit_seq(Parts([Give::Number(2), Give::Text(SILENT)], 0)),
            (SETTING, Self::Node(node)) => {
                if let Some(rows) = self.only("defaults") {
                    visitor.visit_seq(Parts([Give::Number(1), Give::Node(rows)], 0))
                } else if let Some(why) = self.only("unknown") {
                    visitor.visit_seq(Parts([Give::Number(2), Give::Node(why)], 0))
                } else {
                    visitor.visit_seq(Parts([Give::Number(0), self, Give::Place(node.origin)], 0))
                }
            }
            (NOT, _) => match self.only("not") {
                Some(inner) => visitor.visit_seq(Parts([Give::Truth(true), Give::Node(inner)], 0)),
                None => visitor.visit_seq(Parts([Give::Truth(false), self], 0)),
            },
            (SECRET, Self::Node(node)) => match self.only("withheld") {
                Some(_) => {
                    visitor.visit_seq(Parts([Give::Missing(node.origin), Give::Place(node.origin)], 0))
                }
                None => visitor.visit_seq(Parts([self, Give::Place(node.origin)], 0)),
            },
            _ => visitor.visit_newtype_struct(self),
        }
    }

    fn deserialize_struct<V: Visitor<'de>>(
        self,
        _: &'static str,
        fields: &'static [&'static str],
        visitor: V,
    ) -> Result<V::Value, Fault> {
        let fields = self.fields(fields, &visitor)?;
        visitor.visit_map(fields)
    }

    fn deserialize_enum<V: Visitor<'de>>(
        self,
        _: &'static str,
        variants: &'static [&'static str],
        visitor: V,
    ) -> Result<V::Value, Fault> {
        let variant = self.variant(variants, &visitor)?;
        let key = variant.key;
        visitor.visit_enum(variant).map_err(|fault| match key {
            Some(key) => fault.below(Step::Key(Arc::clone(key))),
            None => fault,
        })
    }

    /// Names of keys and of alternatives, which are texts of ours.
    fn deserialize_identifier<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Fault> {
        match self {
            Self::Text(text) => visitor.visit_str(text),
            _ => Err(self.misfit(&visitor)),
        }
    }

    serde::forward_to_deserialize_any! {
        i128 u128 f32 f64 char bytes byte_buf unit unit_struct map ignored_any
    }
}

/// Adds the name of the missing field.
fn missing(fault: Fault, name: &str) -> Fault {
    let what = fault.what.map(|what| {
        if what.starts_with('`') && what.ends_with("is required here") {
            what
        } else if let Some(choice) = what.strip_prefix("expected one of: ") {
            format!("`{name}` is required here, one of: {choice}")
        } else {
            format!("`{name}` is required here")
        }
    });
    Fault { what, ..fault }
}

#[cfg(test)]
mod tests {
    use super::super::node::{Document, of_toml};
    use super::*;
    use trevlin_model::{Export, ExportId, Interface, Rule, Setting, Target};

    fn read<T: for<'de> Deserialize<'de>>(text: &str) -> (Option<T>, Vec<String>) {
        let export = Export::new(ExportId(0), "x", text.into());
        let Document { top, mut notes, .. } = of_toml(&export);
        assert!(notes.is_empty(), "{notes:?}");
        let one = take(top.get("x").unwrap(), &mut notes);
        let told =
            notes.iter().map(|note| format!("{} {}", export.line_of(note.origin.start), note.text)).collect();
        (one, told)
    }

    #[test]
    fn entries_know_their_places() {
        let text = "[x]\nname = \"eth0\"\nup = \"no\"\n[[x.addresses]]\nnet = \"10.4.0.1/24\"\n";
        let (one, told) = read::<Interface>(text);
        let one = one.unwrap();
        assert!(told.is_empty());
        assert_eq!((one.name.as_str(), one.up, one.addresses.len()), ("eth0", Some(false), 1));
        assert_eq!((one.origin.start, one.addresses[0].origin.start), (0, 28));
    }

    #[test]
    fn rules_with_their_conditions() {
        let text = "x = { matches = [{ protocol = \"tcp\" }, { not = { destination-ports = [22, \"80-90\"] } }], \
                    target = { jump = \"more\" } }\n";
        let (one, told) = read::<Rule>(text);
        let one = one.unwrap();
        assert!(told.is_empty());
        assert_eq!(one.target, Target::Jump("more".into()));
        assert_eq!(one.matches.iter().map(|one| one.negated).collect::<Vec<_>>(), [false, true]);
    }

    #[test]
    fn settings_are_stated_default_or_unknown() {
        let row = "{ value = 7, daemon = \"d\", versions = \"all\", source = \"d(8)\" }";
        for (text, wanted) in
            [("7", 0), (format!("{{ defaults = [{row}] }}").as_str(), 1), ("{ unknown = \"it\" }", 2)]
        {
            let (one, told) = read::<Setting<u32>>(&format!("x = {text}\n"));
            assert!(told.is_empty());
            let found = match one.unwrap() {
                Setting::Stated { value: 7, .. } => 0,
                Setting::Default(rows) if rows[0].value == 7 => 1,
                Setting::Unknown { why } if why == "it" => 2,
                other => panic!("{other:?}"),
            };
            assert_eq!(found, wanted, "{text}");
        }
    }

    #[test]
    fn what_is_wrong_is_told_and_the_rest_is_kept() {
        let text = "[x]\nname = \"eth0\"\naddreses = 1\nloopback = 3\n[[x.addresses]]\nnet = \"10.4.0.300/24\"\n\
                    [[x.addresses]]\nnet = \"10.4.0.1/24\"\n";
        let (one, told) = read::<Interface>(text);
        assert_eq!(one.unwrap().addresses.len(), 1);
        assert_eq!(
            told,
            [
                "3 `addreses` is not a key at this place; did you mean `addresses`?",
                "4 this is `3`; expected yes or no",
                "6 `10.4.0.300/24`: invalid IP address syntax",
            ]
        );
        let (one, told) = read::<Interface>("[x]\nup = true\n");
        assert!(one.is_none());
        assert_eq!(told, ["1 `name` is required here"]);
    }
}
