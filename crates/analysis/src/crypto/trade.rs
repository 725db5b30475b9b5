//! Names of algorithms as screens and data sheets write them: `AES 256`, `SHA2-256`, `DH group 14`, `TLSv1.0`.

use std::collections::BTreeMap;
use std::sync::LazyLock;

/// Beginnings of names that say nothing, in small letters without signs.
const EMPTY_BEGINNINGS: [&str; 4] = ["hmac", "encryption", "hash", "pfs"];

/// The letters and digits of a name, small.
fn plain(name: &str) -> String {
    name.chars().filter(char::is_ascii_alphanumeric).map(|one| one.to_ascii_lowercase()).collect()
}

/// Names in the table's own spelling that a name may stand for, the likeliest first.
pub(super) fn meanings(name: &str) -> Vec<String> {
    let mut text = plain(name);
    for beginning in EMPTY_BEGINNINGS {
        if let Some(rest) = text.strip_prefix(beginning).filter(|rest| !rest.is_empty()) {
            text = rest.to_owned();
        }
    }
    if let Some(known) = ALIASES.get(text.as_str()) {
        return vec![(*known).to_owned()];
    }
    [aes(&text), group(&text), protocol(&text), hash(&text)].into_iter().flatten().collect()
}

/// `aes256`, `aes256gcm`, `aescbc128`, `256aes`; without a mode it is CBC, the one that needs no name.
fn aes(text: &str) -> Option<String> {
    let rest = text.replacen("aes", "", 1);
    if rest.len() == text.len() {
        return None;
    }
    let digits: String = rest.chars().filter(char::is_ascii_digit).collect();
    let mode: String = rest.chars().filter(char::is_ascii_alphabetic).collect();
    let mode = mode.trim_end_matches("bit").trim_end_matches("bits");
    // A length of the tag may follow the length of the key.
    let bits = ["128", "192", "256"].into_iter().find(|bits| digits.starts_with(bits))?;
    let mode = match mode {
        "" | "cbc" | "cbcbit" => "CBC",
        "gcm" | "icv" | "gcmicv" => "GCM",
        "ctr" => "CTR",
        "ccm" => "CCM",
        _ => return None,
    };
    Some(format!("AES-{mode}, {bits} bits"))
}

/// `group14`, `dhgroup14`, `dh14`, `14modp2048`, `modp2048`, `ecp384`: groups by their numbers (RFC 3526, RFC 5903, RFC 8031).
fn group(text: &str) -> Option<String> {
    let begins = ["diffiehellmangroup", "dhgroup", "dhgrp", "modpgroup", "group", "grp", "dh"];
    let number = begins.into_iter().find_map(|begin| text.strip_prefix(begin))?;
    let digits = number.trim_end_matches(|letter: char| !letter.is_ascii_digit());
    let digits: String = digits.chars().take_while(char::is_ascii_digit).collect();
    let name = match digits.parse::<u8>().ok()? {
        1 => "MODP 768 bits (group 1)",
        2 => "MODP 1024 bits (group 2)",
        5 => "MODP 1536 bits (group 5)",
        14 => "MODP 2048 bits (group 14)",
        15 => "MODP 3072 bits (group 15)",
        16 => "MODP 4096 bits (group 16)",
        17 => "MODP 6144 bits (group 17)",
        18 => "MODP 8192 bits (group 18)",
        19 => "ECP, 256 bits (group 19)",
        20 => "ECP, 384 bits (group 20)",
        21 => "ECP, 521 bits (group 21)",
        22 => "MODP 1024 bits with a subgroup (group 22)",
        23 | 24 => "MODP 2048 bits with a subgroup (groups 23 and 24)",
        25 => "ECP, 192 bits (group 25)",
        26 => "ECP, 224 bits (group 26)",
        31 => "Curve25519 (group 31)",
        32 => "Curve448 (group 32)",
        _ => return None,
    };
    Some(name.to_owned())
}

/// `tlsv10`, `tls1`, `tls12`, `sslv3`, `ssl30`.
fn protocol(text: &str) -> Option<String> {
    let version = |begin: &str| text.strip_prefix(begin).map(|rest| rest.trim_start_matches(['v', 'e', 'r']));
    let name = match (version("tls"), version("ssl"), version("dtls")) {
        (Some("1" | "10"), ..) => "TLS 1.0",
        (Some("11"), ..) => "TLS 1.1",
        (Some("12"), ..) => "TLS 1.2",
        (Some("13"), ..) => "TLS 1.3",
        (_, Some("2" | "20"), _) => "SSL 2.0",
        (_, Some("3" | "30"), _) => "SSL 3.0",
        (.., Some("1" | "10")) => "DTLS 1.0 and before",
        (.., Some("12")) => "DTLS 1.2",
        _ => return None,
    };
    Some(name.to_owned())
}

/// `sha1`, `sha2256`, `sha256`, `md5`, `sha`.
fn hash(text: &str) -> Option<String> {
    let text = text.trim_end_matches("hmac").trim_end_matches("96").trim_end_matches("128");
    let name = match text {
        "md5" => "HMAC-MD5",
        "sha" | "sha1" => "HMAC-SHA-1",
        "sha224" | "sha2224" => "HMAC-SHA-224",
        "sha256" | "sha2256" => "HMAC-SHA-256",
        "sha384" | "sha2384" => "HMAC-SHA-384",
        "sha512" | "sha2512" => "HMAC-SHA-512",
        _ => return None,
    };
    Some(name.to_owned())
}

/// Names that follow no pattern.
static ALIASES: LazyLock<BTreeMap<&'static str, &'static str>> = LazyLock::new(|| {
    BTreeMap::from([
        ("3des", "Triple DES"),
        ("3descbc", "Triple DES"),
        ("tripledes", "Triple DES"),
        ("desede3", "Triple DES"),
        ("des3", "Triple DES"),
        ("descbc", "DES"),
        ("des56", "DES"),
        ("arcfour", "RC4"),
        ("null", "no encryption"),
        ("none", "no encryption"),
        ("chacha20", "ChaCha20-Poly1305"),
        ("chacha20poly1305", "ChaCha20-Poly1305"),
        ("x25519", "Curve25519 (group 31)"),
        ("curve25519", "Curve25519 (group 31)"),
        ("p256", "ECP, 256 bits (group 19)"),
        ("p384", "ECP, 384 bits (group 20)"),
        ("p521", "ECP, 521 bits (group 21)"),
        ("smb1", "SMBv1 or older"),
        ("smb2", "SMBv2"),
        ("smb3", "SMBv3"),
    ])
});
