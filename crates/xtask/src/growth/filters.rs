//! Packet filters.

use super::making::{Ways, address, addresses, lines};
use std::fmt::Write as _;

/// Packet filters whose lines multiply.
pub(super) fn add(add: &mut Ways) {
    let head = "*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\n";
    add.file("iptables: chains that jump twice to the next", "iptables-save.txt", move |b| {
        let chains = (b / 60).max(2);
        let names = (0..chains).fold(String::new(), |mut all, n| {
            let _ = writeln!(all, ":c{n} - [0:0]");
            all
        });
        let jumps = (0..chains - 1).fold(String::new(), |mut all, n| {
            let _ = writeln!(all, "-A c{n} -s 10.0.0.0/9 -j c{m}\n-A c{n} -d 10.0.0.0/9 -j c{m}", m = n + 1);
            all
        });
        format!("{head}{names}-A INPUT -j c0\n{jumps}COMMIT\n")
    });
    add.files("iptables: several such tables on several devices' files", move |b| {
        (0..8)
            .map(|at| {
                let chains = (b / 8 / 60).clamp(2, 24);
                let names = (0..chains).fold(String::new(), |mut all, n| {
                    let _ = writeln!(all, ":c{n} - [0:0]");
                    all
                });
                let jumps = (0..chains - 1).fold(String::new(), |mut all, n| {
                    let _ = writeln!(
                        all,
                        "-A c{n} -s 10.{at}.{n}.0/24 -j c{m}\n-A c{n} -d 10.{n}.0.0/16 -j c{m}",
                        m = n + 1
                    );
                    all
                });
                (
                    format!("../d{at}/iptables-save.txt"),
                    format!(
                        "{head}{names}-A INPUT -j c0\n-A FORWARD -j c0\n{jumps}COMMIT\n{}",
                        "# a remark\n".repeat(b / 8 / 11)
                    ),
                )
            })
            .collect()
    });
    add.files("iptables: a list in many rules", move |b| {
        vec![
            (
                "ipset-save.txt".into(),
                format!(
                    "create a hash:ip family inet\n{}",
                    lines(b / 2, |n| format!("add a {}\n", address(n * 2)))
                ),
            ),
            (
                "iptables-save.txt".into(),
                format!(
                    "{head}{}COMMIT\n",
                    lines(b / 2, |n| format!(
                        "-A INPUT -p tcp -m set --match-set a src -m tcp --dport {} -j ACCEPT\n",
                        1 + n % 65_000
                    ))
                ),
            ),
        ]
    });
    add.file("iptables: rules that differ in every field", "iptables-save.txt", move |b| {
        format!(
            "{head}{}COMMIT\n",
            lines(b, |n| format!(
                "-A FORWARD -s {} -d {} -p tcp -m tcp --sport {} --dport {} -j {}\n",
                address(n * 7),
                address(n * 11),
                1 + n * 13 % 65_000,
                1 + n * 17 % 65_000,
                if n % 2 == 0 { "ACCEPT" } else { "DROP" }
            ))
        )
    });
    add.file("iptables: conditions that may or may not hold", "iptables-save.txt", move |b| {
        format!(
            "{head}{}COMMIT\n",
            lines(b, |n| format!(
                "-A INPUT -m unheard --of {n} -s {} -j {}\n",
                address(n),
                if n % 2 == 0 { "ACCEPT" } else { "DROP" }
            ))
        )
    });
    add.file("iptables: forwards of many ports", "iptables-save.txt", move |b| {
        format!(
            "*nat\n:PREROUTING ACCEPT [0:0]\n{}COMMIT\n{head}-A FORWARD -j ACCEPT\nCOMMIT\n",
            lines(b, |n| format!(
                "-A PREROUTING -i eth0 -p tcp -m tcp --dport {} -j DNAT --to-destination {}\n",
                1 + n % 65_000,
                address(n)
            ))
        )
    });
    let nft = |rules: String| {
        format!(
            "table inet f {{\n chain i {{\n  type filter hook input priority 0; policy drop;\n{rules} }}\n}}\n"
        )
    };
    add.file("nft: names of twice as much each", "etc/nftables.conf", move |b| {
        format!(
            "define a0 = {{ 10.0.0.1, 10.0.0.2 }}\n{}{}",
            lines(b, |n| format!("define a{} = {{ $a{n}, $a{n} }}\n", n + 1)),
            nft("  ip saddr $a9 accept\n".into())
        )
    });
    add.file("nft: a name in many rules", "etc/nftables.conf", move |b| {
        format!(
            "define a = {{ {} }}\n{}",
            addresses(b / 2, ", "),
            nft(lines(b / 2, |n| format!("  ip saddr $a tcp dport {} accept\n", 1 + n % 65_000)))
        )
    });
    add.file("nft: a list in many rules", "etc/nftables.conf", move |b| format!(
                    "table inet f {{\n set a {{ type ipv4_addr; elements = {{ {} }}; }}\n chain i {{\n  type filter hook input priority 0; policy drop;\n{} }}\n}}\n",
                    addresses(b / 2, ", "),
                    lines(b / 2, |n| format!("  ip saddr @a tcp dport {} accept\n", 1 + n % 65_000))
                ));
    add.file("nft: chains that jump twice to the next", "etc/nftables.conf", move |b| { let chains = (b / 80).max(2);
            let all = (0..chains).rev().fold(String::new(), |mut all, n| { let _ = writeln!(all, " chain c{n} {{\n  ip saddr 10.{}.0.0/16 jump c{m}\n  ip daddr 10.{}.0.0/16 jump c{m}\n }}", n % 250, n % 249, m = n + 1); all });
             format!(
                    "table inet f {{\n{all} chain c{chains} {{ accept\n }}\n chain i {{\n  type filter hook input priority 0; policy drop;\n  jump c0\n }}\n}}\n"
                ) });
    add.file("nft: a map of many forwards", "etc/nftables.conf", |b| format!(
                    "table ip n {{\n chain p {{\n  type nat hook prerouting priority dstnat;\n  dnat to tcp dport map {{ {} }}\n }}\n}}\n",
                    lines(b, |n| format!("{} : 10.0.{}.{}, ", 1 + n % 65_000, n >> 8 & 255, n & 255))
                        .trim_end_matches(", ")
                ));
    add.file("nft: many verdicts in one map", "etc/nftables.conf", move |b| {
        nft(format!(
            "  ip saddr vmap {{ {} }}\n",
            lines(b, |n| format!("{} : accept, ", address(n))).trim_end_matches(", ")
        ))
    });
    add.file("nft: all in one line", "etc/nftables.conf", |b| {
        format!(
            "table inet f {{ chain i {{ type filter hook input priority 0; policy drop; {} }} }}\n",
            lines(b, |n| format!("tcp dport {} accept; ", 1 + n % 65_000))
        )
    });
}
