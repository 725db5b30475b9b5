//! Scripts that set up a packet filter, run by the shell with the real iptables in a network namespace: what they leave there is what
//! Trevlin makes of the text. Where a script depends on something that only a run shows, the table is marked as open.
//!
//! Run by `scripts/conformance.sh`; needs root and iptables.

#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::disallowed_methods,
    reason = "a test that runs programs"
)]

use std::io::Write;
use std::process::{Command, Stdio};
use trevlin_estate::testing::estate;
use trevlin_model::{Chain, Family, Filter, Rule, Target};

/// Scripts of several styles.
const SCRIPTS: &[&str] = &[
    "iptables -A INPUT -p tcp --dport 22 -j ACCEPT\niptables -P INPUT DROP\n",
    // Names with values, and values with several words.
    "IPT=/usr/sbin/iptables\nLAN=\"eth1\"\nKEEP='-m conntrack --ctstate ESTABLISHED,RELATED'\n$IPT -A INPUT -i $LAN -j ACCEPT\n\
     ${IPT} -A INPUT $KEEP -j ACCEPT\n\"$IPT\" -A FORWARD -i \"${LAN}\" -o eth0 -j ACCEPT\n",
    "WAN=${WAN:-eth0}\niptables -t nat -A POSTROUTING -o $WAN -j MASQUERADE\n",
    // Loops over words.
    "for port in 22 80 443; do iptables -A INPUT -p tcp --dport $port -j ACCEPT; done\n",
    "NETS=\"10.4.1.0/24 10.4.2.0/24\"\nfor net in $NETS\ndo\n  for port in 22 3389; do\n    iptables -A FORWARD -s $net -p tcp --dport $port -j ACCEPT\n  done\ndone\n",
    // Functions with words of their own.
    "open() {\n  iptables -A INPUT -p $1 --dport $2 -j ACCEPT\n}\nopen tcp 22\nopen udp 1194\niptables -A INPUT -j DROP\n",
    "function shut { iptables -A FORWARD -s \"$1\" -j DROP; return; iptables -F; }\nshut 10.4.9.0/24\niptables -P FORWARD ACCEPT\n",
    // Branches that follow from values.
    "MODE=closed\ncase \"$MODE\" in\n  open) iptables -P INPUT ACCEPT ;;\n  closed|shut)\n    iptables -P INPUT DROP\n    ;;\n  *) iptables -P FORWARD DROP ;;\nesac\n",
    "A=1\nif [ \"$A\" = 1 ]; then\n  iptables -A INPUT -i lo -j ACCEPT\nelif [ -n \"$A\" ]; then\n  iptables -A INPUT -j DROP\nelse\n  iptables -F\nfi\n",
    "EXTRA=\n[ -n \"$EXTRA\" ] && iptables -A INPUT -j ACCEPT\n[ -z \"$EXTRA\" ] && iptables -A INPUT -p icmp -j ACCEPT\nif [ ! -x /usr/sbin/iptables ]; then exit 1; fi\niptables -P INPUT DROP\n",
    // What is left out: comments, texts that are written to files, commands behind the end.
    "# iptables -A INPUT -j ACCEPT\ncat <<EOF >/dev/null\niptables -A INPUT -j ACCEPT\nEOF\necho 'iptables -P INPUT DROP' >/dev/null\niptables -A INPUT -p tcp --dport 25 -j REJECT # mail\nexit 0\niptables -F\n",
    "cat >/dev/null <<-'X'\n\tiptables -P INPUT DROP\n\tX\niptables -A OUTPUT -d 203.0.113.9 -j DROP\n",
    // Order, places and what goes again.
    "iptables -A INPUT -p tcp --dport 80 -j ACCEPT\niptables -I INPUT -p tcp --dport 22 -j ACCEPT\niptables -I INPUT 2 -p tcp --dport 23 -j DROP\n\
     iptables -D INPUT -p tcp --dport 80 -j ACCEPT\niptables -R INPUT 1 -p tcp --dport 2222 -j ACCEPT\n",
    "iptables -A INPUT -j DROP\niptables -A INPUT -i lo -j ACCEPT\niptables -D INPUT 1\niptables -D INPUT -j DROP 2>/dev/null || true\n",
    "iptables -A FORWARD -j ACCEPT\niptables -F\niptables -X\niptables -t nat -F\niptables -N lan\niptables -A lan -s 10.4.0.0/16 -j ACCEPT\niptables -A FORWARD -i eth1 -j lan\n",
    // Checked before it is added, with other forms of the same.
    "iptables -C INPUT -p udp --dport 51820 -j ACCEPT 2>/dev/null || iptables -A INPUT -p udp --dport 51820 -j ACCEPT\n\
     if ! iptables -C FORWARD -i wg0 -j ACCEPT 2>/dev/null; then iptables -A FORWARD -i wg0 -j ACCEPT; fi\n",
    "iptables -w 5 -t nat -A POSTROUTING -s 10.8.0.0/24 ! -d 10.8.0.0/24 -j MASQUERADE\niptables --table nat --append PREROUTING -i eth0 -p tcp --dport 443 -j DNAT --to-destination 10.4.1.7:8443\n",
    "iptables -p tcp --dport 22 -A INPUT -j ACCEPT\niptables -t filter -I FORWARD 1 -j DROP\n",
    // Lines that go on, several commands on a line, brackets.
    "iptables -A INPUT -p tcp \\\n  --dport 22 \\\n  -j ACCEPT\niptables -A INPUT -j LOG; iptables -A INPUT -j DROP\n(X=eth9; iptables -A FORWARD -i $X -j DROP)\n{ iptables -P OUTPUT DROP; }\n",
    "sh -c 'iptables -A INPUT -p tcp --dport 9 -j DROP'\neval \"iptables -P FORWARD DROP\"\ntrue && iptables -A INPUT -p tcp --dport 10 -j DROP\nfalse && iptables -A INPUT -j ACCEPT\nfalse || iptables -A INPUT -p tcp --dport 11 -j DROP\n",
    "iptables -A INPUT -m comment --comment \"a temporary opening\" -p tcp --dport 3389 -j ACCEPT\niptables -A INPUT -p tcp -m multiport --dports 80,443 -j ACCEPT\n",
    "set -e\nunset GONE\nPORTS=(22 80)\nRANGE=$((1+1))\niptables -A INPUT -m state --state NEW -p tcp --syn -j DROP\n",
    // Conditions that only a run shows: the table is open where they decide.
    "iptables -A INPUT -p tcp --dport 22 -j ACCEPT\nif grep -q nothing-of-this /etc/hostname; then iptables -A INPUT -p tcp --dport 23 -j ACCEPT; fi\niptables -A INPUT -j DROP\n",
    "test -e /nothing/of/this && iptables -I INPUT -j ACCEPT\niptables -P INPUT DROP\n",
    "ADDRESS=$(hostname | wc -l)\niptables -A INPUT -p tcp --dport $ADDRESS -j ACCEPT\niptables -A INPUT -p tcp --dport 99 -j ACCEPT\n",
    "while false; do iptables -A INPUT -j ACCEPT; done\niptables -A INPUT -j DROP\n",
    "hostname | grep -q nothing-of-this && exit 0\niptables -A INPUT -j DROP\n",
];

/// The tables that a script leaves in a namespace of its own.
fn left_by(script: &str) -> String {
    let mut child = Command::new("unshare")
        .args(["--net", "bash", "-c", "bash -s >/dev/null 2>&1; iptables-save"])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    child.stdin.take().unwrap().write_all(script.as_bytes()).unwrap();
    let output = child.wait_with_output().unwrap();
    assert!(output.status.success(), "iptables-save failed after\n{script}");
    String::from_utf8(output.stdout).unwrap()
}

fn tables<'a>(estate: &'a trevlin_estate::assemble::Estate, wanted: &str) -> Option<&'a Filter> {
    estate.tables(0, Family::V4).into_iter().find(|one| one.table == wanted)
}

/// A rule without its place and the order of its conditions.
fn shown(rule: &Rule) -> String {
    let mut conditions: Vec<String> = rule.matches.iter().map(|one| format!("{one:?}")).collect();
    conditions.sort();
    format!("{conditions:?} {:?} {:?}", rule.target, rule.comment)
}

fn is_open(rule: &Rule) -> bool {
    let open = |one: &trevlin_model::Match| format!("{one:?}").contains("a condition of the script");
    matches!(&rule.target, Target::NotAnalysed { .. }) || rule.matches.iter().any(open)
}

fn rules(chain: Option<&Chain>) -> Vec<&Rule> {
    chain.map(|chain| chain.rules.iter().collect()).unwrap_or_default()
}

#[test]
#[ignore = "runs programs; see scripts/conformance.sh"]
fn tables_of_scripts_are_those_that_the_shell_makes() {
    let (mut compared, mut open) = (0, 0);
    for script in SCRIPTS {
        let dump = left_by(script);
        let real = estate(&[("d/iptables-save.txt", &dump)]);
        let ours = estate(&[("d/etc/rc.local", &format!("#!/bin/bash\n{script}"))]);
        let lacking = ours.devices[0].facts.not_analysed.iter().any(|one| one.apart);
        for table in ["filter", "nat"] {
            let (real, ours) = (tables(&real, table), tables(&ours, table));
            let names = [real, ours].into_iter().flatten().flat_map(|table| &table.chains);
            let names: std::collections::BTreeSet<&str> = names.map(|chain| chain.name.as_str()).collect();
            for name in names {
                let chain = |table: Option<&'_ Filter>| table.and_then(|table| table.chain(name)).cloned();
                let (real, ours) = (chain(real), chain(ours));
                let policy = |chain: &Option<Chain>| {
                    chain.as_ref().and_then(|one| one.policy.clone()).unwrap_or(Target::Accept)
                };
                let (marked, firm): (Vec<_>, Vec<_>) =
                    rules(ours.as_ref()).into_iter().partition(|rule| is_open(rule));
                open += marked.len() + usize::from(lacking);
                if lacking {
                    continue;
                }
                assert_eq!(policy(&ours), policy(&real), "{table} {name} of\n{script}");
                // Where rules are marked, the real ones may be any of those; the others are there in their order.
                let firm: Vec<String> = firm.into_iter().map(shown).collect();
                let mut there = rules(real.as_ref()).into_iter().map(shown);
                if marked.is_empty() {
                    assert_eq!(firm, there.collect::<Vec<_>>(), "{table} {name} of\n{script}");
                } else {
                    assert!(
                        firm.iter().all(|rule| there.any(|one| one == *rule)),
                        "{table} {name} of\n{script}"
                    );
                }
                compared += firm.len();
            }
        }
    }
    println!("{} scripts, {compared} rules compared, {open} marked", SCRIPTS.len());
    assert!(compared > 40 && open > 3, "{compared} {open}");
}
