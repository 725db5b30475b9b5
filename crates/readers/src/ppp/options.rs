//! Options files of pppd (pppd(8)): `/etc/ppp/options`, the file a tunnel server names, files under `peers/`.

use super::words::{Word, words};
use crate::addresses;
use crate::reader::{LineRecorder, Open, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use serde::Deserialize;
use std::collections::BTreeSet;
use std::net::Ipv4Addr;
use std::sync::Arc;
use trevlin_model::secret::SecretKind;
use trevlin_model::{
    Export, Facts, IpRange, LineClass, MalformedAddress, Mppe, Origin, PppProfile, Secret, SecretRecord,
};

/// The reader.
pub(crate) const READER: Reader =
    Reader { name: "ppp-options", title: "pppd options file", manual: "pppd(8)", recognise, read };

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Options {
    no_argument: BTreeSet<String>,
    one_argument: BTreeSet<String>,
}

trevlin_model::table! { static OPTIONS: Options = "../../tables/ppp-options.toml"; }

/// Options unique to the format, by which a file is recognised at any path.
const TELLING: [&str; 9] = [
    "require-mschap-v2",
    "require-mschap",
    "require-chap",
    "require-pap",
    "refuse-pap",
    "refuse-chap",
    "require-mppe-128",
    "nobsdcomp",
    "lcp-echo-interval",
];

fn recognise(export: &Export) -> Recognition {
    let content = export.lines().take(TELLING_LINES).any(|line| {
        let word = line.text.split_whitespace().next().unwrap_or_default();
        TELLING.contains(&word)
    });
    if content {
        return Recognition::Content;
    }
    let name = export.file_name();
    let under = |folder: &str| export.path().split('/').rev().nth(1) == Some(folder);
    let options = name == "options" || name.starts_with("options.") || name.ends_with("-options");
    // Accounts of peers have a folder of their own.
    let peer = under("peers") && export.path().split('/').rev().nth(2) == Some("ppp");
    if (options && under("ppp")) || peer || name == "pptpd-options" || name == "options.pptpd" {
        Recognition::Name
    } else {
        Recognition::No
    }
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let first = export.line(1).map_or(export.origin(0..0), |line| export.origin_of(line.text));
    let mut state = State {
        profile: PppProfile::new(export.path(), first),
        facts: Facts::default(),
        around,
        open: vec![export.path().to_owned()],
    };
    state.file(export, &mut book);
    *reading.facts = state.facts;
    reading.facts.ppp_profiles.push(state.profile);
    reading
}

struct State<'a> {
    profile: PppProfile,
    facts: Facts,
    around: &'a ReadContext<'a>,
    /// Files that are being read, to stop at a circle.
    open: Vec<String>,
}

impl State<'_> {
    fn file(&mut self, export: &Export, book: &mut LineRecorder<'_>) {
        let all = words(export.text());
        let mut at = 0;
        while let Some(word) = all.get(at) {
            let name = word.text.as_str();
            at += 1;
            let known = if OPTIONS.no_argument.contains(name) {
                self.flag(name, export.origin(word.span.clone()), book);
                true
            } else if OPTIONS.one_argument.contains(name) {
                match all.get(at) {
                    Some(value) => self.valued(export, word, value, book),
                    None => book.not_understood(
                        export.origin(word.span.clone()),
                        format!("`{name}` needs a value after it"),
                    ),
                }
                at += 1;
                true
            } else {
                self.bare(export, word, book)
            };
            if !known {
                let plugin =
                    if self.profile.plugins.is_empty() { "" } else { ", unless a plug-in above defines it" };
                book.not_understood(
                    export.origin(word.span.clone()),
                    format!("not an option of pppd: it stops reading here and refuses to start{plugin}"),
                );
                while all.get(at).is_some_and(|next| !next.starts_line) {
                    at += 1;
                }
            }
        }
    }

    /// An option without a value. Later ones override earlier ones.
    fn flag(&mut self, name: &str, origin: Origin, book: &mut LineRecorder<'_>) {
        let profile = &mut self.profile;
        match name {
            "auth" => profile.auth = Some((true, origin)),
            "noauth" => profile.auth = Some((false, origin)),
            "login" => profile.login = Some(origin),
            "require-mppe" | "+mppe" => profile.mppe = Some((Mppe::Required, origin)),
            "require-mppe-128" | "+mppe-128" => profile.mppe = Some((Mppe::Required128, origin)),
            "nomppe-40" | "-mppe-40" => profile.no_mppe_40 = true,
            "require-mppe-40" | "+mppe-40" => profile.mppe = Some((Mppe::Required40, origin)),
            "nomppe" | "-mppe" => profile.mppe = Some((Mppe::Off, origin)),
            "proxyarp" => profile.proxy_arp = Some((true, origin)),
            "noproxyarp" | "-proxyarp" => profile.proxy_arp = Some((false, origin)),
            _ => match method(name) {
                Some(method) => {
                    profile.auth = Some((true, origin));
                    profile.require.push((method, origin));
                }
                None => return book.class(origin, LineClass::Ignored),
            },
        }
        book.understood(origin);
    }

    fn valued(&mut self, export: &Export, word: &Word, value: &Word, book: &mut LineRecorder<'_>) {
        let origin = export.origin(word.span.start..value.span.end);
        let text = value.text.as_str();
        if value.unclosed {
            book.not_understood(export.origin(value.span.clone()), "a quotation mark is not closed");
        }
        match word.text.as_str() {
            "name" => self.profile.name = Some((value.plain(), origin)),
            "idle" => self.profile.idle = text.parse().ok().map(|seconds| (seconds, origin)),
            "maxconnect" => self.profile.max_connect = text.parse().ok().map(|seconds| (seconds, origin)),
            "plugin" => self.profile.plugins.push((value.plain(), origin)),
            "ms-wins" => self.profile.netbios.push((format!("a NetBIOS name server, {text}"), origin)),
            "ms-dns" => match address(text) {
                Ok(server) => self.profile.name_servers.push((server, origin)),
                // pppd looks names up; an export cannot.
                Err(_) if text.contains(char::is_alphabetic) => {}
                Err(why) => return self.malformed(origin, why, book),
            },
            "password" => self.facts.secrets.push(Arc::new(SecretRecord {
                secret: Secret::new(text),
                kind: SecretKind::OwnPassword,
                owner: self.profile.path.clone(),
                origin: export.origin(value.span.clone()),
            })),
            "file" => self.include(text, export, origin, book),
            "call" => self.include(&format!("/etc/ppp/peers/{text}"), export, origin, book),
            _ => return book.class(origin, LineClass::Ignored),
        }
        book.understood(origin);
    }

    /// A word that is no option: `local:remote` addresses, a terminal or its speed.
    fn bare(&mut self, export: &Export, word: &Word, book: &mut LineRecorder<'_>) -> bool {
        let origin = export.origin(word.span.clone());
        let text = &word.text;
        if text.starts_with('/') || text.starts_with("tty") || text.bytes().all(|byte| byte.is_ascii_digit())
        {
            book.class(origin, LineClass::Ignored);
            return true;
        }
        let Some((local, remote)) = text.split_once(':') else { return false };
        for side in [local, remote].into_iter().filter(|side| !side.is_empty()) {
            if !side.contains(char::is_alphabetic)
                && let Err(why) = address(side)
            {
                self.malformed(origin, why, book);
                return true;
            }
        }
        if let Ok(remote) = address(remote) {
            self.profile.remote_address = Some((remote, origin));
        }
        book.understood(origin);
        true
    }

    fn malformed(&mut self, origin: Origin, why: String, book: &mut LineRecorder<'_>) {
        book.not_understood(origin, why.clone());
        self.profile.malformed.push(MalformedAddress { why, origin });
    }

    fn include(&mut self, path: &str, named_in: &Export, origin: Origin, book: &mut LineRecorder<'_>) {
        match self.around.find(path, named_in) {
            Some(found) => {
                if book.may_read_in(origin, found, Open::of(&self.open, found), usize::MAX) {
                    self.open.push(found.path().to_owned());
                    self.file(found, book);
                    self.open.pop();
                }
            }
            None => self.profile.missing.push((path.to_owned(), origin)),
        }
    }
}

/// The method an option requires of the peer. A leading `+` is the older spelling.
fn method(name: &str) -> Option<&'static str> {
    Some(match name.strip_prefix("require-").or_else(|| name.strip_prefix('+'))? {
        "pap" => "pap",
        "chap" => "chap",
        "mschap" => "mschap",
        "mschap-v2" => "mschap-v2",
        "eap" => "eap",
        _ => return None,
    })
}

fn address(text: &str) -> Result<IpRange, String> {
    text.parse::<Ipv4Addr>()
        .map(|address| IpRange::from(std::net::IpAddr::from(address)))
        .map_err(|_| addresses::what_is_wrong(text))
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn export(id: u32, path: &str, text: &str) -> Export {
        Export::new(ExportId(id), path, text.into())
    }

    fn profile(text: &str) -> (PppProfile, Reading) {
        let export = export(0, "d/etc/ppp/pptpd-options", text);
        let mut reading = read(&export, &ReadContext::default());
        (reading.facts.ppp_profiles.remove(0), reading)
    }

    #[test]
    fn the_last_word_on_authentication_wins() {
        for (text, auth, require) in [
            ("require-mschap-v2\n", Some(true), "mschap-v2"),
            ("require-mschap-v2\nnoauth\n", Some(false), "mschap-v2"),
            ("noauth\n+chap\n", Some(true), "chap"),
            ("refuse-pap refuse-chap\n", None, ""),
            ("#noauth\nauth", Some(true), ""),
            ("name noauth\n", None, ""),
        ] {
            let (profile, _) = profile(text);
            let methods: Vec<_> = profile.require.iter().map(|(method, _)| *method).collect();
            assert_eq!(
                (profile.auth.map(|auth| auth.0), methods.join(" ").as_str()),
                (auth, require),
                "{text}"
            );
        }
    }

    #[test]
    fn values_and_addresses() {
        let (read, _) =
            profile("name harbour # x\nms-dns 10.4.0.53\n10.4.0.1:10.4.0.9\nproxyarp\nnoproxyarp\n");
        assert_eq!(read.name.unwrap().0, "harbour");
        assert_eq!(format!("{:?}", read.name_servers[0].0), "10.4.0.53");
        assert_eq!(format!("{:?}", read.remote_address.unwrap().0), "10.4.0.9");
        assert!(!read.proxy_arp.unwrap().0);
        let (read, reading) =
            profile("ms-dns 10.4.0.53.1\nms-dns resolver.example\nmtu 1400\nwobble 3\nmru 1400\n");
        assert_eq!(read.malformed.len(), 1);
        assert!(read.name_servers.is_empty());
        let classes: Vec<_> = (1..=5).map(|line| reading.ledger.class(line).unwrap()).collect();
        use LineClass::{Ignored as P, NotUnderstood as N, Understood as U};
        assert_eq!(classes, [N, U, P, N, P]);
    }

    #[test]
    fn includes_are_followed_once() {
        let main = export(0, "d/etc/ppp/pptpd-options", "file /etc/ppp/common\nfile /etc/ppp/gone\n");
        let common = export(1, "d/etc/ppp/common", "noauth\nfile /etc/ppp/pptpd-options\n");
        let around = ReadContext::of(vec![&main, &common]);
        let reading = read(&main, &around);
        let profile = &reading.facts.ppp_profiles[0];
        assert_eq!(profile.auth.map(|auth| (auth.0, auth.1.export)), Some((false, ExportId(1))));
        assert_eq!(profile.missing[0].0, "/etc/ppp/gone");
    }

    #[test]
    fn a_saved_password_is_held() {
        let (_, reading) = profile("user ann password 'open sesame'\n");
        assert_eq!(reading.facts.secrets[0].kind, SecretKind::OwnPassword);
        assert!(!format!("{reading:?}").contains("sesame"));
    }
}
