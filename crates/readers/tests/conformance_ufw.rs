//! Tables compiled from files of ufw, and from the output of `ufw status`, are those that the program loads into the kernel: generated
//! configurations are made with its command and started in a namespace, and the tables are compared chain by chain.
//!
//! Run by `scripts/conformance.sh`; needs root, ufw and iptables.

#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::disallowed_methods,
    reason = "a test that runs a program"
)]

mod support;

use std::fs;
use std::path::Path;
use std::process::Command;
use support::Dice;
use trevlin_model::{Export, ExportId, Facts, Families, Family, Filter, LineClass, Target};
use trevlin_readers::{ReadContext, recognise};

const CONFIGURATIONS: u64 = 24;

/// A command of ufw without its first word, of a kind that administrators use.
fn command(dice: &mut Dice) -> String {
    let action = *dice.pick(&["allow", "allow", "allow", "deny", "reject", "limit"]);
    let port = *dice.pick(&["22", "443", "8080", "5432", "53", "6000:6007", "80,443", "3389"]);
    let several = port.contains([':', ',']);
    let protocol = if several { "tcp" } else { *dice.pick(&["tcp", "udp", ""]) };
    let log = *dice.pick(&["", "", "", " log", " log-all"]);
    let comment = *dice.pick(&["", "", " comment 'temporary, until 2026-12-24'", " comment 'Büro'"]);
    let source = *dice.pick(&["any", "192.0.2.0/24", "198.51.100.7", "2001:db8:7::/48", "10.4.0.0/16"]);
    let six = source.contains(':');
    let interface = *dice.pick(&["", "", " in on eth0", " in on wg0", " out on eth1"]);
    let of_protocol =
        |word: &str| if protocol.is_empty() { String::new() } else { format!("{word}{protocol}") };
    match dice.roll(8) {
        0 | 1 if !several || protocol == "tcp" => format!("{action} {port}{}{comment}", of_protocol("/")),
        2 => format!("{action}{log} from {source}{comment}"),
        3 => {
            let target = if six { "2001:db8:9::5" } else { "10.9.0.5" };
            let through = *dice.pick(&["", "in on eth0 ", "in on eth0 out on eth1 "]);
            format!(
                "route {action} {through}from {source} to {target} port {port}{}{comment}",
                of_protocol(" proto ")
            )
        }
        4 => format!("{action} OpenCounter{comment}"),
        5 if interface.contains("on") => format!("{action}{interface}{comment}"),
        6 => format!("{action} proto {} from {source}{comment}", dice.pick(&["esp", "ah", "gre"])),
        _ => format!(
            "{action}{interface}{log} from {source} to any port {port}{}{comment}",
            of_protocol(" proto ")
        ),
    }
}

/// Sets a configuration up in `folder`, starts it apart from the machine, and writes what the kernel holds and what the program reports.
fn start(folder: &Path, dice: &mut Dice) {
    let etc = folder.join("etc");
    let copied = Command::new("sh")
        .arg("-c")
        .arg("mkdir -p etc/default && cp -r /etc/ufw etc/ && cp /etc/default/ufw etc/default/ && printf '[OpenCounter]\\ntitle=Counter\\ndescription=Counter\\nports=7700,7701/tcp|7702/udp|7703\\n' > etc/ufw/applications.d/counter")
        .current_dir(folder)
        .status();
    assert!(copied.unwrap().success(), "ufw is installed");
    let change = |name: &str, from: &str, to: &str| {
        let at = etc.join(name);
        let text = fs::read_to_string(&at).unwrap();
        fs::write(&at, text.replace(from, to)).unwrap();
    };
    if dice.roll(4) == 0 {
        change("default/ufw", "IPV6=yes", "IPV6=no");
    }
    // What administrators add by hand to route and to translate.
    if dice.roll(2) == 0 {
        let text = fs::read_to_string(etc.join("ufw/before.rules")).unwrap();
        let nat = "*nat\n:PREROUTING ACCEPT [0:0]\n:POSTROUTING ACCEPT [0:0]\n-A PREROUTING -i eth0 -p tcp --dport 8443 -j DNAT --to-destination 10.9.0.5:443\n-A POSTROUTING -s 10.9.0.0/24 -o eth0 -j MASQUERADE\nCOMMIT\n";
        fs::write(etc.join("ufw/before.rules"), format!("{nat}{text}")).unwrap();
    }
    if dice.roll(3) == 0 {
        change(
            "ufw/before.rules",
            "# don't delete the 'COMMIT'",
            "-A ufw-before-forward -s 10.8.0.0/24 -j ACCEPT\n-A ufw-before-input -p gre -j ACCEPT\n# don't delete the 'COMMIT'",
        );
    }
    if dice.roll(3) == 0 {
        let text = fs::read_to_string(etc.join("ufw/after.rules")).unwrap();
        let own = "*filter\n:ufw-user-forward - [0:0]\n:OWN-USER - [0:0]\n-A OWN-USER -j ufw-user-forward\n-A OWN-USER -j RETURN -s 10.0.0.0/8\nCOMMIT\n";
        fs::write(etc.join("ufw/after.rules"), format!("{text}{own}")).unwrap();
    }
    let mut script = format!(
        "set -e\nmount --bind {0}/ufw /etc/ufw\nmount --bind {0}/default/ufw /etc/default/ufw\nip link set lo up\nexport LANG=C.UTF-8\n",
        etc.display()
    );
    let policies = ["deny", "allow", "reject"];
    for direction in ["incoming", "outgoing", "routed"] {
        script.push_str(&format!("ufw default {} {direction}\n", dice.pick(&policies)));
    }
    script.push_str(&format!("ufw logging {}\n", dice.pick(&["off", "low", "medium", "high", "full"])));
    for _ in 0..3 + dice.roll(10) {
        // The program refuses some, such as ports of a protocol without them.
        script.push_str(&format!("ufw {} || true\n", command(dice)));
    }
    script.push_str("ufw --force enable\n");
    for (name, words) in [("verbose", " verbose"), ("numbered", " numbered"), ("short", "")] {
        script.push_str(&format!("ufw status{words} > {}/{name}.txt\n", folder.display()));
    }
    script.push_str(&format!("iptables-save > {0}/v4.txt\nip6tables-save > {0}/v6.txt\n", folder.display()));
    let done = Command::new("unshare").args(["-n", "-m", "bash", "-c", &script]).output().unwrap();
    assert!(done.status.success(), "{script}\n{}", String::from_utf8_lossy(&done.stderr));
}

/// Facts of files, each with its path below the device.
fn facts(files: &[(String, String)]) -> (Facts, u32) {
    let exports: Vec<Export> = files
        .iter()
        .enumerate()
        .map(|(at, (path, text))| {
            Export::new(ExportId(u32::try_from(at).unwrap()), path.as_str(), text.clone())
        })
        .collect();
    let around = ReadContext::of(exports.iter().collect());
    let (mut all, mut strange) = (Facts::default(), 0);
    for export in &exports {
        let Some(reader) = recognise(export).reader else { continue };
        let reading = (reader.read)(export, &around);
        strange += reading.ledger.count(LineClass::NotUnderstood);
        for note in &reading.ledger.notes {
            println!("{}: {} {}", export.path(), export.line_of(note.origin.start), note.text);
        }
        all.absorb(*reading.facts);
    }
    (all, strange)
}

/// Rules chain by chain, without remarks; conditions that are not analysed by their first word.
fn essence<'a>(filters: impl Iterator<Item = &'a Filter>, of_chain: impl Fn(&str) -> bool) -> Vec<String> {
    let mut all = Vec::new();
    for filter in filters {
        for chain in filter.chains.iter().filter(|chain| of_chain(&chain.name)) {
            let key = format!("{} {}", filter.table, chain.name);
            all.push(format!("{key} {:?} {:?}", chain.hook, chain.policy));
            for (at, rule) in chain.rules.iter().enumerate() {
                let condition = |one: &trevlin_model::Match| match &one.kind {
                    trevlin_model::MatchKind::NotAnalysed(one) => {
                        format!("?{}", one.text.split(' ').next().unwrap_or_default())
                    }
                    kind => format!("{}{kind:?}", if one.negated { "!" } else { "" }),
                };
                let mut matches: Vec<String> = rule.matches.iter().map(condition).collect();
                matches.sort();
                let target = match &rule.target {
                    Target::NotAnalysed { name, ends } => format!("{name} {ends}"),
                    other => format!("{other:?}"),
                };
                all.push(format!("{key} {at:03} {} -> {target}", matches.join(" ")));
            }
        }
    }
    all.sort();
    all
}

fn of(filters: &[Filter], family: Family) -> impl Iterator<Item = &Filter> {
    filters.iter().filter(move |filter| filter.families == Families::from(family))
}

/// Chains of the command's rules without what only writes to the log.
fn command_rules(filters: &[Filter], family: Family) -> Vec<String> {
    let mut filters: Vec<Filter> = of(filters, family).filter(|one| one.table == "filter").cloned().collect();
    for chain in filters.iter_mut().flat_map(|filter| &mut filter.chains) {
        chain.rules.retain(|rule| match &rule.target {
            Target::Jump(name) => !name.contains("user-logging"),
            Target::Log => false,
            _ => true,
        });
    }
    let own =
        |name: &str| ["input", "output", "forward"].iter().any(|way| name.ends_with(&format!("-user-{way}")));
    essence(filters.iter(), own)
}

#[test]
#[ignore = "needs ufw and namespaces; run by scripts/conformance.sh"]
fn files_and_reports_are_what_the_kernel_holds() {
    let mut compared = 0;
    for seed in 1..=CONFIGURATIONS {
        let mut dice = Dice::new(seed);
        let folder = tempfile::tempdir().unwrap();
        start(folder.path(), &mut dice);
        let text = |name: &str| fs::read_to_string(folder.path().join(name)).unwrap();
        let file = |path: &str| (format!("quay/{path}"), text(path));
        let mut names: Vec<String> = ["before", "before6", "after", "after6", "user", "user6"]
            .iter()
            .map(|name| format!("etc/ufw/{name}.rules"))
            .collect();
        names.extend(["etc/ufw/ufw.conf", "etc/default/ufw", "etc/ufw/sysctl.conf"].map(str::to_owned));
        let files: Vec<_> = names.iter().map(|name| file(name)).collect();
        let (compiled, strange) = facts(&files);
        assert_eq!(strange, 0, "seed {seed}");
        assert!(compiled.filters.iter().all(|filter| filter.complete), "seed {seed}");
        let dumps: Vec<_> = ["v4.txt", "v6.txt"].map(|name| (format!("quay/{name}"), text(name))).into();
        let (held, strange) = facts(&dumps);
        assert_eq!(strange, 0, "seed {seed}");
        for family in [Family::V4, Family::V6] {
            let (ours, kernel) = (
                essence(of(&compiled.filters, family), |_| true),
                essence(of(&held.filters, family), |_| true),
            );
            // The kernel also lists built-in chains of tables that are empty.
            let more: Vec<_> = kernel
                .iter()
                .filter(|line| !ours.contains(line) && !line.ends_with("Some(Accept)"))
                .collect();
            let less: Vec<_> = ours.iter().filter(|line| !kernel.contains(line)).collect();
            assert!(
                more.is_empty() && less.is_empty(),
                "seed {seed} {family:?}\nkernel: {more:#?}\nours: {less:#?}"
            );
            compared += ours.len();
        }
        let own = file("etc/ufw/applications.d/counter");
        for report in ["verbose.txt", "numbered.txt", "short.txt"] {
            let (reported, strange) = facts(&[(format!("quay/ufw-{report}"), text(report)), own.clone()]);
            assert_eq!(strange, 0, "seed {seed} {report}");
            for family in [Family::V4, Family::V6] {
                let (ours, theirs) =
                    (command_rules(&reported.filters, family), command_rules(&compiled.filters, family));
                if compiled.filters.iter().any(|one| one.families == Families::V6 && one.chains.len() > 3)
                    || family == Family::V4
                {
                    assert_eq!(ours, theirs, "seed {seed} {report} {family:?}\n{}", text(report));
                }
            }
        }
    }
    println!("{CONFIGURATIONS} configurations, {compared} rules and chains alike");
}
