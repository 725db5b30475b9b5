use super::*;
use trevlin_model::{ExportId, LineClass, TableChange};

fn of(path: &str, text: &str) -> Reading {
    let export = Export::new(ExportId(0), path, text.into());
    assert_eq!(recognise(&export), Recognition::Content, "{path}");
    read(&export, &ReadContext::of(vec![&export]))
}

/// Changes and settings in short.
fn shown(reading: &Reading) -> Vec<String> {
    let change = |one: &trevlin_model::FilterChange| {
        let what = match &one.change {
            TableChange::Append { chain, rule } => {
                format!("+{chain} {:?} {:?}", rule.target, rule.matches.len())
            }
            TableChange::Insert { chain, place, .. } => format!("{chain} at {place}"),
            TableChange::Policy { chain, policy } => format!("{chain} {policy:?}"),
            other => format!("{other:?}"),
        };
        format!("{} {} {:?}: {what}", one.family, one.table, one.moment)
    };
    let facts = &reading.facts;
    let changes = facts.filter_changes.iter().map(change);
    let kernel = facts.kernel.iter().map(|one| format!("{} = {}", one.name, one.value));
    let routes = facts.stored_routes.iter().map(|one| format!("route {}", one.destination));
    let lacks = facts.not_analysed.iter().filter(|one| one.apart).map(|one| format!("? {}", one.what));
    changes.chain(kernel).chain(routes).chain(lacks).collect()
}

#[test]
fn places_and_what_runs_there() {
    for (path, text, wanted) in [
        ("d/etc/rc.local", "iptables -P INPUT DROP\n", "IPv4 filter Boot: INPUT Drop"),
        (
            "d/etc/network/if-up.d/nat",
            "#!/bin/sh\nip6tables -P INPUT DROP\n",
            "IPv6 filter Interface: INPUT Drop",
        ),
        (
            "d/etc/ppp/ip-up.d/nat",
            "#!/bin/sh\niptables -A FORWARD -i $1 -j DROP\n",
            "IPv4 filter Interface: +FORWARD Drop 1",
        ),
        ("d/etc/cron.d/nat", "@reboot root iptables -P INPUT DROP\n", "IPv4 filter Boot: INPUT Drop"),
        (
            "d/etc/crontab",
            "W=5\n5 4 * * * root iptables -I INPUT -j DROP # x\n",
            "IPv4 filter Clock: INPUT at 1",
        ),
        (
            "d/var/spool/cron/crontabs/root",
            "* * * * * sysctl -w net.ipv4.ip_forward=1 % no\n",
            "net.ipv4.ip_forward = 1",
        ),
        (
            "d/etc/cron.daily/x",
            "#!/bin/sh\necho 1 > /proc/sys/net/ipv4/ip_forward\n",
            "net.ipv4.ip_forward = 1",
        ),
        (
            "d/etc/init.d/fw",
            "#!/bin/sh\ncase \"$1\" in start) iptables -P INPUT DROP;; stop) iptables -F;; esac\n",
            "IPv4 filter Boot: INPUT Drop",
        ),
        (
            "d/etc/rc.local",
            "echo 0 | tee /proc/sys/net/ipv4/conf/eth0.5/rp_filter\n",
            "net.ipv4.conf.eth0/5.rp_filter = 0",
        ),
        (
            "d/etc/rc.local",
            "for f in /proc/sys/net/ipv4/conf/*/rp_filter; do echo 1 > $f; done\n",
            "net.ipv4.conf.*.rp_filter = 1",
        ),
        ("d/etc/rc.local", "route add -net 10.4.0.0 netmask 255.255.0.0 gw 10.9.0.1\n", "route 10.4.0.0/16"),
        ("d/etc/rc.local", "ip route add default via 203.0.113.1 table 7\n", ""),
        ("d/etc/rc.local", "sysctl -p\nkernel=1\nsysctl kernel.panic=1\n", ""),
    ] {
        assert_eq!(shown(&of(path, text)).join("; "), wanted, "{path} {text}");
    }
}

#[test]
fn other_scripts_are_left_alone() {
    for (path, text) in [
        ("d/etc/network/if-up.d/mount", "#!/bin/sh\nmount -a\n"),
        ("d/etc/cron.daily/logs", "#!/bin/sh\n# iptables is not used\nlogrotate x\n"),
        ("d/etc/init.d/fw", "#!/usr/bin/perl\nsystem('iptables -F');\n"),
        ("d/root/fw.sh", "#!/bin/sh\niptables -F\n"),
        ("d/etc/cron.d/.placeholder", "# iptables\n"),
    ] {
        let export = Export::new(ExportId(0), path, text.into());
        assert_eq!(recognise(&export), Recognition::No, "{path}");
    }
}

#[test]
fn what_only_a_run_shows_stays_open() {
    for (text, wanted) in [
        (
            "iptables -A INPUT -s $(x) -j ACCEPT",
            "IPv4 filter Boot: +INPUT NotAnalysed { name: \"a command with an unknown part\", ends: true } 0",
        ),
        (
            "iptables $MORE -A INPUT -j ACCEPT",
            "IPv4 filter Boot: +INPUT NotAnalysed { name: \"a command with an unknown part\", ends: true } 0",
        ),
        ("iptables -A $CHAIN -j ACCEPT", "? commands of rc.local that are only known when they run"),
        ("if x; then iptables -P INPUT DROP; fi", "? commands of rc.local that depend on a condition"),
        ("nft add rule inet t c accept", "? commands of rc.local that are not read"),
        ("nft -f /etc/nftables.conf; ufw status; iptables -L -n", ""),
        ("iptables-restore < /etc/x.rules", ""),
        ("iptables-restore <<X\n*filter\nCOMMIT\nX", "? commands of rc.local that were not followed"),
        ("iptables -A INPUT -s 10.4.0.999 -j ACCEPT", "IPv4 filter Boot: +INPUT Accept 2"),
        ("iptables -P INPUT NEVER", "? commands of rc.local that were not understood"),
        ("if x; then\niptables -P INPUT DROP", "? commands of rc.local that depend on a condition"),
        (
            "/usr/local/sbin/firewall start",
            "? commands of rc.local that are in a script that was not exported",
        ),
        ("$FW -A INPUT -j ACCEPT", "? commands of rc.local that are only known when they run"),
        ("/usr/local/sbin/backup", ""),
        (
            "if x; then sysctl -w net.ipv4.ip_forward=1; fi",
            "? commands of rc.local that may change how packets are forwarded",
        ),
        ("a() { a; iptables -F; }\na", "? commands of rc.local that were not followed"),
    ] {
        assert_eq!(shown(&of("d/etc/rc.local", text)).join("; "), wanted, "{text}");
    }
}

#[test]
fn scripts_that_are_called_are_followed() {
    let texts = [
        (
            "d/etc/rc.local",
            "#!/bin/sh\n. /etc/fw.conf\n/usr/local/sbin/fw start\niptables -A INPUT -i $LAN -j ACCEPT\n",
        ),
        ("d/etc/fw.conf", "LAN=eth7\n"),
        (
            "d/usr/local/sbin/fw",
            "#!/bin/sh\n[ \"$1\" = start ] || exit 1\niptables -P INPUT DROP\n/etc/rc.local\n",
        ),
    ];
    let exports: Vec<Export> = texts
        .iter()
        .enumerate()
        .map(|(at, (path, text))| Export::new(ExportId(at as u32), *path, (*text).to_owned()))
        .collect();
    let reading = read(&exports[0], &ReadContext::of(exports.iter().collect()));
    assert_eq!(
        shown(&reading),
        ["IPv4 filter Boot: INPUT Drop", "IPv4 filter Boot: +INPUT Accept 1"],
        "{:?}",
        reading.ledger.notes
    );
    let touched: Vec<_> = reading.elsewhere.iter().map(|(origin, class)| (origin.export.0, *class)).collect();
    assert!(touched.contains(&(2, LineClass::Understood)), "{touched:?}");
}

#[test]
fn commands_in_settings_of_interfaces() {
    let wire = "[Interface]\nPrivateKey = x\nPostUp = iptables -A FORWARD -i %i -j ACCEPT; sysctl -w net.ipv4.ip_forward=1\n\
                PostDown = iptables -D FORWARD -i %i -j ACCEPT\n[Peer]\nAllowedIPs = 10.9.0.2/32\n";
    let plan = "iface eth0 inet static\n  address 10.4.0.1/24\n  post-up iptables -A INPUT -i $IFACE -j DROP\n  down iptables -F\n";
    for (path, text, wanted) in [
        ("d/etc/wireguard/wg7.conf", wire, vec!["wg7", "net.ipv4.ip_forward"]),
        ("d/etc/network/interfaces", plan, vec!["eth0"]),
    ] {
        let export = Export::new(ExportId(0), path, text.into());
        let reader = crate::recognise(&export).reader.unwrap();
        let reading = (reader.read)(&export, &ReadContext::of(vec![&export]));
        let entering = reading.facts.filter_changes.iter().filter_map(|one| match &one.change {
            TableChange::Append { rule, .. } => match &rule.matches.first()?.kind {
                trevlin_model::MatchKind::Entering(name) => Some(name.as_str()),
                _ => None,
            },
            _ => None,
        });
        let found: Vec<&str> =
            entering.chain(reading.facts.kernel.iter().map(|one| one.name.as_str())).collect();
        assert_eq!(found, wanted, "{path}");
    }
}

#[test]
fn a_script_without_end_ends() {
    let nested = format!("{}x{}", "( ".repeat(5_000), " )".repeat(5_000));
    let loops = format!("{}iptables -F{}", "for a in 1 2 3 4 5 6 7 8 9; do ".repeat(12), "; done".repeat(12));
    let values = format!("A=iptables\n{}", "A=\"$A $A\"\n".repeat(200));
    for text in [nested, loops, values, "iptables \"".to_owned(), "${".repeat(9_000), "case x in".to_owned()]
    {
        let export = Export::new(ExportId(0), "d/etc/rc.local", text);
        let reading = read(&export, &ReadContext::of(vec![&export]));
        assert!(reading.facts.filter_changes.len() <= 20_000);
    }
}
