//! Certificates as bytes (RFC 5280, 4.1), as far as an audit needs them. Further defects of old certificates (serial numbers, contradictory
//! extensions, bytes after the end) do not prevent reading.
//!
//! Long because a certificate is walked once, from its first byte to its last.

use der::asn1::{AnyRef, ObjectIdentifier};
use der::{Decode, Reader, SliceReader, Tag, TagNumber};
use jiff::civil::DateTime;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::net::{Ipv4Addr, Ipv6Addr};
use trevlin_model::Origin;
use trevlin_model::certificate::{Certificate, KeyAlgorithm, PublicKey};

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Tables {
    algorithm: Vec<Algorithm>,
    /// Names of hash functions by object identifier.
    hashes: BTreeMap<String, String>,
}

#[derive(Deserialize)]
struct Algorithm {
    oid: String,
    name: String,
    hash: Option<String>,
}

trevlin_model::table! { static TABLES: Tables = "../tables/signature-algorithms.toml"; }

const COMMON_NAME: &str = "2.5.4.3";
const ORGANISATION: &str = "2.5.4.10";
const ALTERNATIVE_NAMES: &str = "2.5.29.17";
const BASIC_CONSTRAINTS: &str = "2.5.29.19";
const RSASSA_PSS: &str = "1.2.840.113549.1.1.10";

/// Short names of attributes (RFC 4514, section 3; RFC 2985, 5.2.1 for mail addresses).
const SHORT: [(&str, &str); 11] = [
    (COMMON_NAME, "CN"),
    ("2.5.4.5", "serialNumber"),
    ("2.5.4.6", "C"),
    ("2.5.4.7", "L"),
    ("2.5.4.8", "ST"),
    ("2.5.4.9", "STREET"),
    (ORGANISATION, "O"),
    ("2.5.4.11", "OU"),
    ("0.9.2342.19200300.100.1.1", "UID"),
    ("0.9.2342.19200300.100.1.25", "DC"),
    ("1.2.840.113549.1.9.1", "emailAddress"),
];

/// The certificate at the beginning of the bytes; `None` where there is none. Whether it is part of a store is set afterwards.
pub(crate) fn certificate(bytes: &[u8], origin: Origin) -> Option<Certificate> {
    let [body, algorithm, _signature] = leading(sequence(element(bytes)?)?)?;
    let mut fields = sequence(body)?.into_iter().peekable();
    let version = fields.next_if(|field| context(*field) == Some(0)).and_then(inner);
    // A version that is not stated is the first, and stated as 0 as well.
    let first_version = version.is_none_or(|version| version.value() == [0]);
    let [_serial, _algorithm, issuer, validity, subject, key] = std::array::from_fn(|_| fields.next());
    let (issuer, subject) = (issuer?, subject?);
    let [not_before, not_after] = leading(sequence(validity?)?)?;
    let stated = fields.find(|field| context(*field) == Some(3)).and_then(inner).and_then(sequence);
    let extensions = stated.unwrap_or_default();
    let (issuer_name, subject_name) = (Name::of(issuer)?, Name::of(subject)?);
    let self_signed = issuer.value() == subject.value();
    let (signature, signature_hash) = signature(algorithm)?;
    let mut names = alternative_names(&extensions);
    if names.is_empty() {
        names.extend(subject_name.first(COMMON_NAME));
    }
    Some(Certificate {
        subject: subject_name.words(),
        organisation: subject_name.first(ORGANISATION),
        issuer: issuer_name.words(),
        names,
        self_signed,
        // Certificates of version 1 have no constraints; those that signed themselves are authorities.
        is_authority: may_sign(&extensions) || (first_version && self_signed),
        not_before: seconds(not_before)?,
        not_after: seconds(not_after)?,
        key: public_key(key?),
        signature,
        signature_hash,
        factory: false,
        public: false,
        in_trust_store: false,
        origin,
    })
}

/// The element at the beginning of the bytes.
fn element(bytes: &[u8]) -> Option<AnyRef<'_>> {
    AnyRef::decode(&mut SliceReader::new(bytes).ok()?).ok()
}

/// All consecutive elements in the bytes; `None` where one of them is malformed.
fn parts(bytes: &[u8]) -> Option<Vec<AnyRef<'_>>> {
    let mut reader = SliceReader::new(bytes).ok()?;
    let mut found = Vec::new();
    while !reader.is_finished() {
        found.push(AnyRef::decode(&mut reader).ok()?);
    }
    Some(found)
}

fn sequence(of: AnyRef<'_>) -> Option<Vec<AnyRef<'_>>> {
    (tag(of) == Tag::Sequence).then(|| parts(of.value())).flatten()
}

fn tag(of: AnyRef<'_>) -> Tag {
    of.header().tag()
}

/// The first elements, up to this number.
fn leading<const N: usize>(all: Vec<AnyRef<'_>>) -> Option<[AnyRef<'_>; N]> {
    all.get(..N)?.try_into().ok()
}

/// The number of a context-specific tag.
fn context(of: AnyRef<'_>) -> Option<u32> {
    match tag(of) {
        Tag::ContextSpecific { number, .. } => Some(TagNumber::value(number)),
        _ => None,
    }
}

/// Content of an explicit tag.
fn inner(of: AnyRef<'_>) -> Option<AnyRef<'_>> {
    parts(of.value())?.first().copied()
}

/// An object identifier with dots; empty where it is none.
fn oid(of: AnyRef<'_>) -> String {
    of.decode_as::<ObjectIdentifier>().map(|oid| oid.to_string()).unwrap_or_default()
}

/// Content of a bit string. Keys are whole bytes: the first byte is the number of unused bits of the last.
fn bits(of: AnyRef<'_>) -> Option<&[u8]> {
    (tag(of) == Tag::BitString).then(|| of.value().get(1..)).flatten()
}

/// A name (RFC 5280, 4.1.2.4): attributes in the order written.
struct Name(Vec<(String, String)>);

impl Name {
    fn of(name: AnyRef<'_>) -> Option<Self> {
        let mut found = Vec::new();
        for relative in sequence(name)? {
            for attribute in parts(relative.value())? {
                let [kind, value] = leading(sequence(attribute)?)?;
                found.push((oid(kind), text(value)));
            }
        }
        Some(Self(found))
    }

    /// The first value of an attribute that is not empty.
    fn first(&self, kind: &str) -> Option<String> {
        let mut values = self.0.iter().filter(|(its, value)| its == kind && !value.is_empty());
        values.next().map(|(_, value)| value.clone())
    }

    /// For output: the common name, otherwise all of it.
    fn words(&self) -> String {
        let all = || {
            let written = self.0.iter().map(|(kind, value)| {
                let short = SHORT.iter().find(|(oid, _)| oid == kind);
                format!("{}={value}", short.map_or(kind.as_str(), |(_, short)| short))
            });
            written.collect::<Vec<_>>().join(", ")
        };
        self.first(COMMON_NAME).unwrap_or_else(all)
    }
}

/// A text of one of the kinds used in names (RFC 5280, 4.1.2.4: DirectoryString). TeletexString is mostly used for Latin-1 or UTF-8.
fn text(of: AnyRef<'_>) -> String {
    let bytes = of.value();
    match tag(of) {
        Tag::BmpString => {
            let units = bytes.chunks_exact(2).map(|two| u16::from_be_bytes([two[0], two[1]]));
            char::decode_utf16(units).map(|read| read.unwrap_or(char::REPLACEMENT_CHARACTER)).collect()
        }
        _ => std::str::from_utf8(bytes)
            .map_or_else(|_| bytes.iter().copied().map(char::from).collect(), str::to_owned),
    }
}

/// Seconds since 1970-01-01T00:00:00Z of a UTCTime or a GeneralizedTime. RFC 5280, 4.1.2.5, requires seconds and `Z`; older certificates
/// have neither, or a difference from UTC (X.680, 46 and 47).
fn seconds(of: AnyRef<'_>) -> Option<i64> {
    let written = std::str::from_utf8(of.value()).ok()?;
    let zone = written.find(['Z', '+', '-']).unwrap_or(written.len());
    let (clock, zone) = written.split_at(zone);
    let clock = clock.split(['.', ',']).next().unwrap_or_default();
    let (year, rest) = match tag(of) {
        Tag::UtcTime => {
            let (year, rest) = clock.split_at_checked(2)?;
            let year: i16 = year.parse().ok()?;
            (if year < 50 { 2000 + year } else { 1900 + year }, rest)
        }
        Tag::GeneralizedTime => {
            let (year, rest) = clock.split_at_checked(4)?;
            (year.parse().ok()?, rest)
        }
        _ => return None,
    };
    let mut pairs = rest.as_bytes().chunks(2).map(|two| std::str::from_utf8(two).ok()?.parse::<i8>().ok());
    let mut pair = || pairs.next().flatten();
    let (month, day, hour) = (pair()?, pair()?, pair()?);
    let time = DateTime::new(year, month, day, hour, pair().unwrap_or(0), pair().unwrap_or(0), 0).ok()?;
    let of_zone = |from: usize| zone.get(from..from + 2).and_then(|two| two.parse::<i64>().ok()).unwrap_or(0);
    let ahead = (of_zone(1) * 60 + of_zone(3)) * 60;
    let ahead = if zone.starts_with('-') { -ahead } else { ahead };
    let epoch = DateTime::constant(1970, 1, 1, 0, 0, 0, 0);
    Some(time.duration_since(epoch).as_secs() - ahead)
}

/// Name and hash function of the algorithm that a certificate is signed with.
fn signature(identifier: AnyRef<'_>) -> Option<(String, Option<String>)> {
    let fields = sequence(identifier)?;
    let oid = oid(*fields.first()?);
    if oid == RSASSA_PSS {
        let hash = pss_hash(fields.get(1).copied());
        return Some((format!("RSASSA-PSS with {hash}"), Some(hash)));
    }
    let row = TABLES.algorithm.iter().find(|row| row.oid == oid);
    let hash = row.and_then(|row| row.hash.clone());
    Some((row.map_or(oid, |row| row.name.clone()), hash))
}

/// The hash function among the parameters of RSASSA-PSS: SHA-1 where none is stated (RFC 4055, 3.1).
fn pss_hash(parameters: Option<AnyRef<'_>>) -> String {
    let stated = parameters.and_then(sequence).unwrap_or_default();
    let hash = stated.into_iter().find(|field| context(*field) == Some(0)).and_then(inner);
    let Some(named) = hash.and_then(sequence).and_then(|fields| fields.first().copied()) else {
        return "SHA-1".to_owned();
    };
    let oid = oid(named);
    TABLES.hashes.get(&oid).cloned().unwrap_or(oid)
}

/// Decoded content of an extension; `None` where it is absent or malformed.
fn extension<'a>(all: &[AnyRef<'a>], which: &str) -> Option<AnyRef<'a>> {
    let fields = all.iter().filter_map(|one| sequence(*one));
    let mut its = fields.filter(|fields| fields.first().is_some_and(|kind| oid(*kind) == which));
    // Whether it is critical may stand between.
    let value = *its.next()?.last()?;
    (tag(value) == Tag::OctetString).then(|| inner(value)).flatten()
}

/// Whether the constraints mark it as an authority (RFC 5280, 4.2.1.9).
fn may_sign(extensions: &[AnyRef<'_>]) -> bool {
    let constraints = extension(extensions, BASIC_CONSTRAINTS).and_then(sequence).unwrap_or_default();
    constraints.first().is_some_and(|first| tag(*first) == Tag::Boolean && first.value() != [0])
}

/// Host names and addresses among the alternative names (RFC 5280, 4.2.1.6).
fn alternative_names(extensions: &[AnyRef<'_>]) -> Vec<String> {
    let stated = extension(extensions, ALTERNATIVE_NAMES).and_then(sequence).unwrap_or_default();
    let name = |name: &AnyRef<'_>| match (context(*name)?, name.value()) {
        (2, bytes) => std::str::from_utf8(bytes).ok().map(str::to_owned),
        (7, bytes) => <[u8; 4]>::try_from(bytes)
            .map(|four| Ipv4Addr::from(four).to_string())
            .or_else(|_| <[u8; 16]>::try_from(bytes).map(|all| Ipv6Addr::from(all).to_string()))
            .ok(),
        _ => None,
    };
    stated.iter().filter_map(name).collect()
}

/// Kind and size of a key (RFC 3279, 2.3; RFC 5480, 2; RFC 8410, 3). A key that cannot be read is of an unknown kind.
fn public_key(info: AnyRef<'_>) -> PublicKey {
    let (algorithm, bits) = kind_and_bits(info).unwrap_or((KeyAlgorithm::Other, 0));
    PublicKey { algorithm, bits: u32::try_from(bits).unwrap_or(0) }
}

fn kind_and_bits(info: AnyRef<'_>) -> Option<(KeyAlgorithm, usize)> {
    let [identifier, key] = leading(sequence(info)?)?;
    let identifier = sequence(identifier)?;
    let parameters = identifier.get(1).copied();
    let key = bits(key)?;
    match oid(*identifier.first()?).as_str() {
        "1.3.101.112" => Some((KeyAlgorithm::Ed25519, 256)),
        "1.3.101.113" => Some((KeyAlgorithm::Ed448, 456)),
        "1.2.840.113549.1.1.1" | RSASSA_PSS => {
            let modulus = *sequence(element(key)?)?.first()?;
            Some((KeyAlgorithm::Rsa, size(modulus)?))
        }
        "1.2.840.10040.4.1" => {
            // The prime; a certificate may leave it to its issuer's.
            let prime = parameters.and_then(sequence).and_then(|all| all.first().copied());
            let bits = size(prime.or_else(|| element(key))?)?;
            Some((KeyAlgorithm::Dsa, bits))
        }
        "1.2.840.10045.2.1" => Some((KeyAlgorithm::Ec, curve_bits(parameters, key)?)),
        _ => None,
    }
}

/// Bits of a positive whole number.
fn size(number: AnyRef<'_>) -> Option<usize> {
    let bytes = (tag(number) == Tag::Integer).then(|| number.value())?;
    let from = bytes.iter().position(|byte| *byte != 0)?;
    Some((bytes.len() - from) * 8 - bytes[from].leading_zeros() as usize)
}

/// Bits of the field of a curve point (SEC 1, 2.3.3), by its length; P-521 is the curve that does not fill its bytes (RFC 5480, 2.1.1.1).
fn curve_bits(curve: Option<AnyRef<'_>>, point: &[u8]) -> Option<usize> {
    if curve.is_some_and(|curve| oid(curve) == "1.3.132.0.35") {
        return Some(521);
    }
    match point {
        [4, both @ ..] => Some(both.len() / 2 * 8),
        [2 | 3, one @ ..] => Some(one.len() * 8),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use base64::Engine;
    use proptest::prelude::*;

    fn made(tag: u8, value: &[u8]) -> Vec<u8> {
        let length = u16::try_from(value.len()).unwrap();
        let mut all = vec![tag];
        match length {
            0..128 => all.push(length as u8),
            128..256 => all.extend([0x81, length as u8]),
            _ => all.extend([&[0x82], &length.to_be_bytes()[..]].concat()),
        }
        all.extend(value);
        all
    }

    fn list(parts: &[Vec<u8>]) -> Vec<u8> {
        made(0x30, &parts.concat())
    }

    fn identifier(oid: &str) -> Vec<u8> {
        made(6, ObjectIdentifier::new(oid).unwrap().as_bytes())
    }

    fn read(bytes: &[u8]) -> AnyRef<'_> {
        element(bytes).unwrap()
    }

    /// A name of attributes, each the tag of its text and the text.
    fn name(attributes: &[(&str, u8, &[u8])]) -> Vec<u8> {
        let one = |(kind, tag, value): &(&str, u8, &[u8])| {
            made(0x31, &list(&[identifier(kind), made(*tag, value)]))
        };
        list(&attributes.iter().map(one).collect::<Vec<_>>())
    }

    /// A certificate whose name is its issuer's, as `before` (a version and a serial number) and `after` (extensions) have it.
    fn whole(before: &[Vec<u8>], named: Vec<u8>, after: &[Vec<u8>]) -> Vec<u8> {
        let algorithm = list(&[identifier("1.2.840.113549.1.1.11"), made(5, &[])]);
        let time = |text: &str| made(0x17, text.as_bytes());
        let key = list(&[list(&[identifier("1.3.101.112")]), made(3, &[0; 33])]);
        let mut fields = before.to_vec();
        fields.extend([algorithm.clone(), named.clone()]);
        fields.extend([list(&[time("260101000000Z"), time("270101000000Z")]), named, key]);
        fields.extend_from_slice(after);
        list(&[list(&fields), algorithm, made(3, &[0; 65])])
    }

    fn nowhere() -> Origin {
        Origin { export: trevlin_model::ExportId(0), start: 0, end: 0 }
    }

    #[test]
    fn times() {
        for (tag, written, expected) in [
            (0x17, "700101000000Z", Some(0)),
            (0x17, "491231235959Z", Some(2_524_607_999)),
            (0x17, "500101000000Z", Some(-631_152_000)),
            (0x17, "2601021530Z", Some(1_767_367_800)),
            (0x17, "260102153000+0130", Some(1_767_362_400)),
            (0x17, "260102153000-0130", Some(1_767_373_200)),
            (0x17, "261302153000Z", None),
            (0x17, "26", None),
            (0x17, "2é0102153000Z", None),
            (0x18, "20500101000000Z", Some(2_524_608_000)),
            (0x18, "20500101000000.5Z", Some(2_524_608_000)),
            (0x18, "99991231235959Z", Some(253_402_300_799)),
            (0x18, "20500101", None),
            (0x0c, "20500101000000Z", None),
        ] {
            let bytes = made(tag, written.as_bytes());
            assert_eq!(seconds(read(&bytes)), expected, "{written}");
        }
    }

    #[test]
    fn names_in_every_spelling() {
        let (common, organisation) = ("2.5.4.3", "2.5.4.10");
        for (attributes, words) in [
            (vec![(organisation, 0x13, &b"Ferry Line"[..]), (common, 0x0c, b"gate.example")], "gate.example"),
            (vec![(common, 0x0c, "Fähre".as_bytes())], "Fähre"),
            (vec![(common, 0x14, b"F\xe4hre")], "Fähre"),
            (vec![(common, 0x1e, b"\0F\0\xe4\0h")], "Fäh"),
            (vec![(common, 0x0c, b""), (organisation, 0x13, b"Ferry Line")], "CN=, O=Ferry Line"),
            (vec![("1.2.3.4", 0x13, b"pier"), ("2.5.4.6", 0x13, b"XX")], "1.2.3.4=pier, C=XX"),
            (vec![], ""),
        ] {
            let bytes = name(&attributes);
            assert_eq!(Name::of(read(&bytes)).unwrap().words(), words);
        }
    }

    #[test]
    fn what_old_and_odd_certificates_have() {
        let version = |number| made(0xa0, &made(2, &[number]));
        let serial = made(2, &[7]);
        let extensions = |all: &[Vec<u8>]| made(0xa3, &list(all));
        let may_sign = |truth: &[u8]| {
            let constraints = list(if truth.is_empty() { vec![] } else { vec![made(1, truth)] }.as_slice());
            list(&[identifier(BASIC_CONSTRAINTS), made(1, &[0xff]), made(4, &constraints)])
        };
        let alternative = list(&[
            identifier(ALTERNATIVE_NAMES),
            made(
                4,
                &list(&[
                    made(0x82, b"gate.example"),
                    made(0x81, b"port@gate.example"),
                    made(0x87, &[192, 0, 2, 1]),
                    made(0x87, &[0x20, 1, 0xd, 0xb8, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 1]),
                    made(0x87, &[1, 2]),
                ]),
            ),
        ]);
        for (what, before, after, authority, names) in [
            ("the first version", vec![serial.clone()], vec![], true, vec!["gate"]),
            ("the first version, stated", vec![version(0), serial.clone()], vec![], true, vec!["gate"]),
            ("no extensions", vec![version(2), serial.clone()], vec![], false, vec!["gate"]),
            ("a negative number", vec![version(2), made(2, &[0x80])], vec![], false, vec!["gate"]),
            (
                "an authority with identifiers",
                vec![version(2), serial.clone()],
                vec![made(0x81, &[0, 1]), extensions(&[may_sign(&[0xff])])],
                true,
                vec!["gate"],
            ),
            (
                "no authority",
                vec![version(2), serial.clone()],
                vec![extensions(&[may_sign(&[]), alternative.clone()])],
                false,
                vec!["gate.example", "192.0.2.1", "2001:db8::1"],
            ),
            (
                "no authority, stated",
                vec![version(2), serial.clone()],
                vec![extensions(&[may_sign(&[0])])],
                false,
                vec!["gate"],
            ),
        ] {
            let mut bytes = whole(&before, name(&[(COMMON_NAME, 0x0c, b"gate")]), &after);
            bytes.extend([0, 0, 0]);
            let read = certificate(&bytes, nowhere()).expect(what);
            assert_eq!((read.is_authority, read.self_signed), (authority, true), "{what}");
            assert_eq!(read.names, names, "{what}");
        }
        assert!(certificate(&list(&[serial]), nowhere()).is_none());
    }

    #[test]
    fn keys_and_their_sizes() {
        let number = |bits: usize| {
            let mut bytes = vec![0xff; bits.div_ceil(8)];
            bytes[0] >>= (8 - bits % 8) % 8;
            made(2, &[&[0], &bytes[..]].concat())
        };
        let rsa = |bits| list(&[number(bits), made(2, &[1, 0, 1])]);
        let prime = |bits| Some(list(&[number(bits), number(160), number(9)]));
        let point = |first: u8, bytes: usize| [&[first], &vec![1; bytes][..]].concat();
        for (kind, parameters, key, expected) in [
            ("1.2.840.113549.1.1.1", None, rsa(2048), (KeyAlgorithm::Rsa, 2048)),
            ("1.2.840.113549.1.1.1", None, rsa(2047), (KeyAlgorithm::Rsa, 2047)),
            (RSASSA_PSS, None, rsa(3072), (KeyAlgorithm::Rsa, 3072)),
            ("1.2.840.113549.1.1.1", None, vec![1], (KeyAlgorithm::Other, 0)),
            ("1.2.840.10040.4.1", prime(1024), number(1020), (KeyAlgorithm::Dsa, 1024)),
            ("1.2.840.10040.4.1", None, number(2048), (KeyAlgorithm::Dsa, 2048)),
            ("1.2.840.10045.2.1", None, point(4, 64), (KeyAlgorithm::Ec, 256)),
            ("1.2.840.10045.2.1", None, point(3, 48), (KeyAlgorithm::Ec, 384)),
            ("1.2.840.10045.2.1", Some(identifier("1.3.132.0.35")), point(4, 132), (KeyAlgorithm::Ec, 521)),
            ("1.3.101.113", None, vec![0; 57], (KeyAlgorithm::Ed448, 456)),
            ("1.2.3", None, vec![0; 57], (KeyAlgorithm::Other, 0)),
        ] {
            let algorithm = list(&[vec![identifier(kind)], Vec::from_iter(parameters)].concat());
            let bytes = list(&[algorithm, made(3, &[&[0], &key[..]].concat())]);
            let read = public_key(read(&bytes));
            assert_eq!((read.algorithm, read.bits as usize), expected, "{kind}");
        }
    }

    #[test]
    fn hashes_of_signatures() {
        let pss = |hash: Option<&str>| {
            let stated = hash.map(|oid| made(0xa0, &list(&[identifier(oid)])));
            list(&[identifier(RSASSA_PSS), list(&Vec::from_iter(stated))])
        };
        for (bytes, name, hash) in [
            (list(&[identifier("1.2.840.113549.1.1.4")]), "RSA with MD5", Some("MD5")),
            (list(&[identifier("1.3.101.112")]), "Ed25519", None),
            (list(&[identifier("1.2.3.4")]), "1.2.3.4", None),
            (pss(None), "RSASSA-PSS with SHA-1", Some("SHA-1")),
            (pss(Some("2.16.840.1.101.3.4.2.1")), "RSASSA-PSS with SHA-256", Some("SHA-256")),
            (pss(Some("1.2.3")), "RSASSA-PSS with 1.2.3", Some("1.2.3")),
        ] {
            assert_eq!(signature(read(&bytes)), Some((name.to_owned(), hash.map(str::to_owned))), "{name}");
        }
    }

    proptest! {
        #[test]
        fn changed_bytes_are_read_or_refused(at in proptest::collection::vec((any::<usize>(), any::<u8>()), 1..4)) {
            let text = include_str!("../tests/cases/pem/server.pem");
            let body: String = text.lines().skip_while(|line| !line.starts_with('-')).skip(1).take_while(|line| !line.starts_with('-')).collect();
            let mut bytes = base64::engine::general_purpose::STANDARD.decode(body).unwrap();
            prop_assert!(certificate(&bytes, nowhere()).is_some());
            for (place, byte) in at {
                let place = place % bytes.len();
                bytes[place] = byte;
            }
            if let Some(read) = certificate(&bytes, nowhere()) {
                prop_assert!(read.key.bits < 20_000);
            }
        }
    }
}
