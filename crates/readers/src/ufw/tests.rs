use super::*;
use trevlin_model::{ExportId, Filter, Target};

const SETTINGS: &str = "IPV6=no\nDEFAULT_INPUT_POLICY=\"DROP\"\nDEFAULT_OUTPUT_POLICY=ACCEPT\nDEFAULT_FORWARD_POLICY='REJECT'\n\
                        IPT_SYSCTL=/etc/ufw/sysctl.conf\n";
const USER: &str = "*filter\n:ufw-user-input - [0:0]\n:ufw-user-output - [0:0]\n:ufw-user-forward - [0:0]\n\
                    ### tuple ### allow tcp 22 0.0.0.0/0 any 0.0.0.0/0 in comment=6372657720c3bc\n\
                    -A ufw-user-input -p tcp --dport 22 -j ACCEPT\nCOMMIT\n";
const REPORT: &str = "Status: active\nDefault: deny (incoming), allow (outgoing), reject (routed)\n\n\
                      To                         Action      From\n--                         ------      ----\n";

struct Read {
    facts: Facts,
    notes: Vec<String>,
}

fn of(files: &[(&str, &str)]) -> Read {
    let exports: Vec<Export> = files
        .iter()
        .zip(0..)
        .map(|((path, text), id)| Export::new(ExportId(id), *path, (*text).to_owned()))
        .collect();
    let around = ReadContext::of(exports.iter().collect());
    let (mut facts, mut notes) = (Facts::default(), Vec::new());
    for export in &exports {
        let Some(reader) = crate::recognise(export).reader else { continue };
        let reading = (reader.read)(export, &around);
        notes
            .extend(reading.ledger.notes.iter().map(|note| format!("{}: {}", export.file_name(), note.text)));
        facts.absorb(*reading.facts);
    }
    Read { facts, notes }
}

fn rules(filters: &[Filter], family: Family, chain: &str) -> Vec<String> {
    let tables = filters.iter().filter(|one| one.families.has(family) && one.table == "filter");
    let chains = tables.flat_map(|one| &one.chains).filter(|one| one.name == chain);
    let rule = |rule: &trevlin_model::Rule| {
        let conditions: Vec<String> = rule
            .matches
            .iter()
            .map(|one| match &one.kind {
                trevlin_model::MatchKind::NotAnalysed(what) => format!("?{}", what.text),
                kind => format!("{kind:?}").split('(').next().unwrap_or_default().to_owned(),
            })
            .collect();
        let target = match &rule.target {
            Target::NotAnalysed { name, .. } => format!("?{name}"),
            other => format!("{other:?}"),
        };
        format!("{} {target} {}", conditions.join("+"), rule.comment.as_deref().unwrap_or("-"))
    };
    chains.flat_map(|one| &one.rules).map(rule).collect()
}

#[test]
fn settings_and_rules() {
    let found = of(&[
        ("d/etc/ufw/user.rules", USER),
        ("d/etc/ufw/ufw.conf", "ENABLED=\"yes\" # since spring\n"),
        ("d/etc/default/ufw", SETTINGS),
        ("d/etc/ufw/sysctl.conf", "net/ipv4/ip_forward=1\n"),
    ]);
    assert_eq!(
        rules(&found.facts.filters, Family::V4, "ufw-user-input"),
        ["Protocol+DestinationPorts Accept crew ü"]
    );
    assert_eq!(rules(&found.facts.filters, Family::V4, "ufw-reject-forward"), [" Reject -"]);
    // What the missing files hold may be anything.
    assert_eq!(
        rules(&found.facts.filters, Family::V4, "ufw-before-input")[0],
        " ?`before.rules` of ufw, which is not among the exports -"
    );
    // Without rules for IPv6 nothing passes.
    assert_eq!(rules(&found.facts.filters, Family::V6, "INPUT"), ["Entering Accept -"]);
    let forwarding = &found.facts.kernel[0];
    assert!(forwarding.by_command && forwarding.name == "net.ipv4.ip_forward");
    assert!(found.notes.is_empty(), "{:?}", found.notes);
}

#[test]
fn a_filter_that_is_off_is_none() {
    for (files, wanted) in [
        (&[("d/etc/ufw/user.rules", USER), ("d/etc/ufw/ufw.conf", "ENABLED=no\n")][..], 1),
        (
            &[
                ("d/etc/ufw/user.rules", "*filter\n:ufw-user-input - [0:0]\nCOMMIT\n"),
                ("d/etc/ufw/ufw.conf", "ENABLED=no\n"),
            ],
            0,
        ),
        (
            &[
                ("d/etc/ufw/user.rules", USER),
                ("d/etc/ufw/ufw.conf", "ENABLED=yes\n"),
                ("d/ufw.txt", "Status: inactive\n"),
            ],
            1,
        ),
    ] {
        let found = of(files);
        assert!(found.facts.filters.is_empty());
        assert_eq!(found.facts.switched_off.len(), wanted, "{files:?}");
    }
    let kernel = of(&[
        ("d/etc/ufw/ufw.conf", "ENABLED=no\n"),
        ("d/etc/ufw/user.rules", USER),
        ("d/etc/ufw/sysctl.conf", "net/ipv4/ip_forward=1\n"),
    ]);
    assert!(kernel.facts.kernel.is_empty());
}

#[test]
fn reports() {
    for (row, chain, wanted) in [
        (
            "22/tcp                     ALLOW IN    Anywhere",
            "ufw-user-input",
            &["Protocol+DestinationPorts Accept -"][..],
        ),
        (
            "[ 3] 22/tcp                ALLOW IN    Anywhere    # temporary",
            "ufw-user-input",
            &["Protocol+DestinationPorts Accept temporary"],
        ),
        (
            "8080                       DENY        Anywhere",
            "ufw-user-input",
            &["Protocol+DestinationPorts Drop -", "Protocol+DestinationPorts Drop -"],
        ),
        (
            "10.9.0.5 80/tcp on eth1    ALLOW FWD   Anywhere on eth0",
            "ufw-user-forward",
            &["Entering+Leaving+Protocol+Destination+DestinationPorts Accept -"],
        ),
        (
            "25/tcp                     REJECT OUT  Anywhere (out)",
            "ufw-user-output",
            &["Protocol+DestinationPorts Reject -"],
        ),
        (
            "Anywhere on wg0            ALLOW IN    10.8.0.0/24",
            "ufw-user-input",
            &["Entering+Source Accept -"],
        ),
        ("22/tcp (v6)                ALLOW IN    Anywhere (v6)", "ufw-user-input", &[]),
        (
            "OpenSSH                    ALLOW       Anywhere",
            "ufw-user-input",
            &["Protocol+DestinationPorts Accept -"],
        ),
        (
            "Anywhere/esp               ALLOW IN    192.0.2.1/esp",
            "ufw-user-input",
            &["Protocol+Source Accept -"],
        ),
    ] {
        let found = of(&[("d/ufw-status.txt", &format!("{REPORT}{row}\n"))]);
        assert_eq!(rules(&found.facts.filters, Family::V4, chain), wanted, "{row}");
        assert!(found.notes.is_empty(), "{row}: {:?}", found.notes);
    }
    for row in ["Ticket counter             ALLOW IN    Anywhere", "no rule at all"] {
        assert_eq!(of(&[("d/ufw-status.txt", &format!("{REPORT}{row}\n"))]).notes.len(), 1, "{row}");
    }
    let profile = ("d/etc/ufw/applications.d/counter", "[Ticket counter]\nports=7700/tcp|7701/udp\n");
    let report = format!("{REPORT}Ticket counter             ALLOW IN    Anywhere\n");
    let found = of(&[("d/ufw-status.txt", &report), profile]);
    assert_eq!(rules(&found.facts.filters, Family::V4, "ufw-user-input").len(), 2);
    // What the package loads before is likely, and not certain.
    let before = rules(&found.facts.filters, Family::V4, "ufw-before-input");
    assert_eq!(before[0], "Entering Accept -");
    assert!(
        before.contains(
            &"?a rule of `before.rules` of ufw, which is not among the exports Accept -".to_owned()
        )
    );
}
