//! Words of screens for values that facts have other words for: "off" where a protection is never used.

use super::node::{Entry, Node, Value};
use trevlin_model::account::Account;
use trevlin_model::ike::PreSharedKey;

/// Words for one value: section, keys that lead to it, and for each value the words that screens have for it.
struct Words {
    section: &'static str,
    path: &'static [&'static str],
    values: &'static [(&'static str, &'static [&'static str])],
}

const OFF: &[&str] = &["off", "no", "none", "disabled", "not required"];
const ON: &[&str] = &["on", "yes", "enabled", "mandatory"];
const CERTIFICATE: &[(&str, &[&str])] = &[("not-asked", OFF), ("required", ON)];
const PROTECTION: &[(&str, &[&str])] = &[
    ("never", OFF),
    ("offered", &["on", "yes", "enabled", "optional"]),
    ("required", &["mandatory", "always"]),
];

const PASSWORDS: &[&str] = &["proof", "passwords"];
const OTHER_PASSWORDS: &[&str] = &["proof", "alternatives", "passwords"];
const SOURCES: &[(&str, &[&str])] = &[
    ("directory", &["ldap", "ldaps", "ad", "active directory", "domain", "kerberos"]),
    ("identity-provider", &["saml", "oidc", "openid connect", "sso", "single sign-on"]),
];

const WORDS: [Words; 10] = [
    Words { section: "tunnels", path: PASSWORDS, values: SOURCES },
    Words { section: "tunnels", path: OTHER_PASSWORDS, values: SOURCES },
    Words {
        section: "radios",
        path: &["protection"],
        values: &[
            ("open", OFF),
            (
                "wpa",
                &["wpa-psk", "wpa personal", "wpa-personal", "wpa/wpa2", "wpa/wpa2 personal", "wpa/wpa2-psk"],
            ),
            (
                "wpa2-passphrase",
                &[
                    "wpa2",
                    "wpa2-psk",
                    "wpa2 personal",
                    "wpa2-personal",
                    "wpa2/wpa3",
                    "wpa2/wpa3 personal",
                    "wpa3/wpa2",
                ],
            ),
            ("wpa2-login", &["wpa2 enterprise", "wpa2-enterprise", "802.1x", "wpa2-eap"]),
            ("wpa3-passphrase", &["wpa3", "wpa3-sae", "wpa3 personal", "wpa3-personal", "sae"]),
            ("wpa3-login", &["wpa3 enterprise", "wpa3-enterprise"]),
            ("encrypted", &["owe", "enhanced open"]),
        ],
    },
    Words {
        section: "ppp-profiles",
        path: &["mppe"],
        values: &[
            ("optional", &["not required", "allowed"]),
            ("off", &["no", "none", "disabled"]),
            ("required", &["yes", "on", "mandatory"]),
        ],
    },
    Words { section: "tunnels", path: &["proof", "certificate"], values: CERTIFICATE },
    Words { section: "tunnels", path: &["proof", "alternatives", "certificate"], values: CERTIFICATE },
    Words {
        section: "tunnels",
        path: &["policy", "one-time-code"],
        values: &[("off", OFF), ("required", ON)],
    },
    Words { section: "services", path: &["parts", "signing"], values: PROTECTION },
    Words { section: "services", path: &["parts", "encryption"], values: PROTECTION },
    Words {
        section: "services",
        path: &["parts", "login"],
        values: &[
            ("nothing", &["none", "no", "off", "guest", "anonymous", "without login"]),
            ("password", &["user name and password", "yes"]),
        ],
    },
];

/// Sections and keys whose values may be such words.
#[cfg(feature = "schema")]
pub(super) fn places() -> impl Iterator<Item = (&'static str, &'static [&'static str])> {
    WORDS.iter().map(|one| (one.section, one.path))
}

/// Number of an account or a group that is on no screen: the one that the kernel has for none (chown(2)).
const NO_NUMBER: i64 = 4_294_967_295;

/// Brings the words of an entry of a section to those of facts.
pub(super) fn translated(section: &str, entry: &mut Node) {
    for one in WORDS.iter().filter(|one| one.section == section) {
        entry.at(one.path, &mut |node| {
            for word in node.each_mut() {
                let Some(text) = word.text().map(str::to_ascii_lowercase) else { continue };
                let found = one.values.iter().find(|(_, words)| words.contains(&text.as_str()));
                if let Some((value, _)) = found {
                    word.value = Value::Text((*value).into());
                }
            }
        });
    }
    if section == "tunnels" {
        for path in [PASSWORDS, OTHER_PASSWORDS] {
            entry.at(path, &mut |node| node.each_mut().iter_mut().for_each(own_list));
        }
    }
    match section {
        "accounts" => numbers(entry),
        "ike-keys" => {
            let peers = vec![Node {
                origin: entry.origin,
                value: Value::Text(PreSharedKey::PEERS_NOT_STATED.into()),
            }];
            entry.fill("identities", entry.origin, Value::List(peers));
        }
        _ => {}
    }
}

/// The accounts of the device itself, whose list needs no name where there is one.
fn own_list(node: &mut Node) {
    let own = ["local", "own accounts", "device", "local accounts", "local users", "local database"];
    let text = node.text().map(str::to_ascii_lowercase);
    if text.is_some_and(|text| own.contains(&text.as_str())) {
        let origin = node.origin;
        node.value = Value::Table(vec![Entry::new("local-list", origin, Value::Text("".into()))]);
    }
}

/// Numbers and shells of accounts, which screens seldom show: the number of `root` is 0, others are not known.
fn numbers(entry: &mut Node) {
    let is_root = entry.get("name").and_then(Node::text) == Some("root");
    for key in ["uid", "gid"] {
        entry.fill(key, entry.origin, Value::Number(if is_root { 0 } else { NO_NUMBER }));
    }
    entry.fill("shell", entry.origin, Value::Text(Account::SHELL_NOT_STATED.into()));
}

/// A permission for a name alone: that of a role, of a user, or of a group.
pub(super) fn grantee(entry: &mut Node, known: &Known) {
    let Value::Table(fields) = &mut entry.value else { return };
    let Some(who) = fields.iter_mut().find(|field| &*field.key == "who") else { return };
    let Some(name) = who.node.text().map(str::to_owned) else { return };
    let (lower, origin) = (name.to_ascii_lowercase(), who.node.origin);
    who.node.value = match lower.as_str() {
        "all-users" | "all users" | "everyone" | "everybody" | "anyone" | "anybody" | "any" | "all" | "*" => {
            Value::Text("all-users".into())
        }
        _ => {
            let said = name.split_once(' ').filter(|(kind, _)| ["group", "role", "user"].contains(kind));
            if let Some((kind, bare)) = said.filter(|_| !known.has(&lower)) {
                let bare = Value::Text(bare.trim().into());
                who.node.value = Value::Table(vec![Entry::new(kind, origin, bare)]);
                return;
            }
            let kind = match () {
                () if known.roles.contains(&lower) => "role",
                () if !known.groups.contains(&lower) && known.users.contains(&lower) => "user",
                () => "group",
            };
            Value::Table(vec![Entry::new(kind, origin, Value::Text(name.into()))])
        }
    };
}

/// Names of users, groups and roles of a sheet.
pub(super) struct Known {
    roles: Vec<String>,
    groups: Vec<String>,
    users: Vec<String>,
}

impl Known {
    /// Whether a name in small letters is that of a user, a group or a role.
    fn has(&self, name: &str) -> bool {
        [&self.roles, &self.groups, &self.users].iter().any(|all| all.iter().any(|one| one == name))
    }

    pub(super) fn of(top: &Node) -> Self {
        let entries = |section: &str| top.get(section).map_or(&[][..], Node::each);
        let name = |node: &Node, key: &str| node.get(key).and_then(Node::text).map(str::to_ascii_lowercase);
        let is_role = |node: &Node| {
            node.get("role")
                .is_some_and(|role| role.value == Value::Truth(true) || role.text() == Some("yes"))
        };
        let (roles, groups): (Vec<&Node>, Vec<&Node>) =
            entries("groups").iter().partition(|node| is_role(node));
        let names = |all: Vec<&Node>| all.into_iter().filter_map(|node| name(node, "name")).collect();
        let accounts = entries("accounts").iter().filter_map(|node| name(node, "name"));
        let users = entries("logins").iter().filter_map(|node| name(node, "user")).chain(accounts).collect();
        Self { roles: names(roles), groups: names(groups), users }
    }
}

#[cfg(test)]
mod tests {
    use crate::reader::ReadContext;
    use trevlin_model::grant::Grantee;
    use trevlin_model::housekeeping::WifiProtection;
    use trevlin_model::{CertificateRequirement, Export, ExportId, Setting};

    fn read(text: &str) -> crate::reader::Reading {
        let export = Export::new(ExportId(0), "d/d.toml", format!("sheet = \"trevlin-sheet/2\"\n{text}"));
        let reading = (super::super::READER.read)(&export, &ReadContext::default());
        assert!(reading.ledger.notes.is_empty(), "{text}: {:?}", reading.ledger.notes);
        reading
    }

    #[test]
    fn words_of_screens() {
        let tunnel = |more: &str| {
            format!("[[tunnels]]\nname = \"vpn\"\nfamily = \"openvpn\"\nrole = \"server\"\n{more}")
        };
        for (word, wanted) in [
            ("\"off\"", CertificateRequirement::NotAsked),
            ("\"None\"", CertificateRequirement::NotAsked),
            ("\"yes\"", CertificateRequirement::Required),
            ("\"optional\"", CertificateRequirement::Optional),
        ] {
            let reading = read(&tunnel(&format!("[tunnels.proof]\ncertificate = {word}\n")));
            let found = reading.facts.tunnels[0].proof.certificate.as_ref().and_then(Setting::value);
            assert_eq!(found, Some(&wanted), "{word}");
        }
        for (word, wanted) in [
            ("None", WifiProtection::Open),
            ("WPA/WPA2 Personal", WifiProtection::Wpa),
            ("WPA2-PSK", WifiProtection::Wpa2Passphrase),
            ("WPA2 Enterprise", WifiProtection::Wpa2Login),
            ("wpa3", WifiProtection::Wpa3Passphrase),
        ] {
            let reading = read(&format!(
                "[[radios]]\nname = \"quay\"\ninterface = \"wlan\"\nprotection = \"{word}\"\n"
            ));
            assert_eq!(reading.facts.radios[0].protection, wanted, "{word}");
        }
        let share = |login: &str, signing: &str| {
            format!(
                "[[services]]\nname = \"s\"\nkind = \"shares\"\nendpoints = [{{ protocol = \"tcp\", port = 445, carried = \"plain\" }}]\n\
                 [[services.parts]]\nname = \"p\"\nkind = \"share\"\nlogin = \"{login}\"\nsigning = \"{signing}\"\n[[services.offers]]\nalgorithms = [\"SMB 1\"]\n"
            )
        };
        for (login, signing, wanted) in [
            ("guest", "off", ("Nothing", "Never")),
            ("proof", "on", ("Proof", "Offered")),
            ("user name and password", "required", ("Proof", "Required")),
        ] {
            let reading = read(&share(login, signing));
            let part = format!("{:?}", reading.facts.served[0].parts[0]);
            assert!(part.contains(wanted.0) && part.contains(wanted.1), "{login} {signing}: {part}");
        }
    }

    #[test]
    fn names_of_grantees() {
        for (who, wanted) in [
            ("crew", Grantee::Group("crew".into())),
            ("Pilots", Grantee::Role("Pilots".into())),
            ("astrid", Grantee::User("astrid".into())),
            ("everyone", Grantee::AllUsers),
            // Of a directory.
            ("divers", Grantee::Group("divers".into())),
        ] {
            let reading = read(&format!(
                "[[logins]]\nuser = \"astrid\"\nservice = \"SSH\"\n[[groups]]\nname = \"crew\"\n[[groups]]\nname = \"pilots\"\nrole = true\n\
                 [[permissions]]\nwho = \"{who}\"\nservice = \"SSH\"\n"
            ));
            assert_eq!(reading.facts.permissions[0].who, wanted, "{who}");
        }
    }

    #[test]
    fn numbers_and_shells_on_no_screen() {
        let reading = read(
            "[[accounts]]\nname = \"root\"\npassword = \"elsewhere\"\n[[accounts]]\nname = \"guest\"\npassword = \"empty\"\n",
        );
        let found: Vec<_> =
            reading.facts.accounts.iter().map(|one| (one.uid == 0, one.has_shell())).collect();
        assert_eq!(found, [(true, false), (false, false)]);
    }

    #[test]
    fn no_rule_base_and_the_list_of_a_service() {
        let reading = read("rule-list = []\n[[interfaces]]\nname = \"e\"\naddresses = [\"10.4.0.1/24\"]\n");
        let policies: Vec<_> = reading
            .facts
            .filters
            .iter()
            .flat_map(|one| &one.chains)
            .map(|chain| chain.policy.clone())
            .collect();
        assert!(policies.contains(&Some(trevlin_model::Target::Accept)), "{policies:?}");
        assert_eq!(reading.facts.interfaces[0].addresses.len(), 1);
        let alone = read(
            "[[tunnels]]\nname = \"vpn\"\nfamily = \"l2tp\"\nrole = \"server\"\n[tunnels.proof]\npasswords = [\"local\"]\n",
        );
        assert!(format!("{:?}", alone.facts.tunnels[0].proof.passwords).contains("accounts of vpn"));
        for (word, wanted) in [("not required", "Optional"), ("optional", "Optional"), ("no", "Off")] {
            let reading = read(&format!(
                "[[tunnels]]\nname = \"dial-in\"\nfamily = \"pptp\"\nrole = \"server\"\n[[ppp-profiles]]\nservice = \"dial-in\"\nmppe = \
                 \"{word}\"\n"
            ));
            assert!(format!("{:?}", reading.facts.ppp_profiles[0].mppe).contains(wanted), "{word}");
        }
        for list in ["\"local\"", "{ local-list = \"people\" }"] {
            let reading = read(&format!(
                "[[logins]]\nuser = \"astrid\"\nservice = \"vpn\"\n[[tunnels]]\nname = \"vpn\"\nfamily = \"openvpn\"\nrole = \"server\"\n\
                 [tunnels.proof]\npasswords = [{list}]\n"
            ));
            let source = format!("{:?}", reading.facts.tunnels[0].proof.passwords);
            assert!(source.contains("accounts of vpn"), "{list}: {source}");
        }
    }
}
