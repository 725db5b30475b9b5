//! A DNS server answers recursive queries from any address.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, Who, of_kinds};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::served::{Remark, ServedKind, ServiceResource};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/open-resolver",
    area: Area::Exposure,
    title: "Open DNS resolver",
    severity: Severity::Low,
    why: "An open resolver is abused for amplification attacks: a forged query of 60 bytes yields a response of thousands. \
          Its cache is also exposed to poisoning.",
    fix: "Name the permitted clients (`allow-recursion`, `access-control`, `interface=`), and answer for own zones without \
          recursion.",
    judged: "Fails where recursion is permitted for any address and the server listens beyond the device: low while the \
             packet filter blocks the Internet, high where the Internet reaches it. Passes where clients are named. \
             Undetermined where an included file is missing.",
    references: &["RFC 5358", "NIST SP 800-81 Rev. 2, 7.2", "US-CERT TA13-088A"],
    needs: &[Need::Addresses, Need::Filter, Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for one in of_kinds(estate, &[ServedKind::Names]).filter(|one| !one.served.is_local()) {
        answers.extend(one.open_answer());
        for part in one.served.parts.iter().filter(|part| part.remark(Remark::Recursion).is_some()) {
            answers.push(Answer::new(one.device, Subject::part(one.served, part), judge(one, part)));
        }
    }
    answers
}

fn judge(one: ServiceCase<'_>, part: &ServiceResource) -> Verdict {
    // A server that listens on inside interfaces or addresses alone is limited by these.
    let everywhere =
        one.served.endpoints.iter().any(|place| place.address.is_none() && place.interface.is_none());
    let outside = matches!(one.who(&part.sources), Who::Outside(_) | Who::SomeOutside(_));
    if !part.sources.is_everybody() || !(everywhere || outside) {
        return one.holds_by_limit(part);
    }
    let base = match outside {
        true => CHECK.rating().raised("reachable from the Internet"),
        false => CHECK.rating(),
    };
    one.fail(
        base,
        part,
        format!("{} permits recursion for any address", one.title()),
        if outside {
            "Connections from the Internet reach it."
        } else {
            "Only the packet filter blocks the Internet."
        }
        .into(),
        part.lines().into_iter().chain(one.served.endpoints.first().map(|place| place.origin)).collect(),
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exposure::testing::{Small, on};

    #[test]
    fn a_file_that_is_missing_is_a_question() {
        let text = "options { recursion no; };\ninclude \"/etc/bind/more\";\n";
        let one = Small { more: &[("gate/etc/bind/named.conf", text)], ..Small::default() };
        assert_eq!(on(&CHECK, &one), ["ask gate"]);
    }

    #[test]
    fn cases() {
        const FILE: &str = "gate/etc/bind/named.conf";
        let inner = "-A INPUT -i eth1 -j ACCEPT\n";
        let open = "-A INPUT -p udp --dport 53 -j ACCEPT\n";
        for (text, rules, wanted) in [
            (
                "options { allow-recursion { any; }; };\n",
                open,
                &["fail high gate named.conf:1 named.conf:1 iptables-save.txt:9"][..],
            ),
            ("options { allow-recursion { any; }; };\n", inner, &["fail low gate named.conf:1 named.conf:1"]),
            (
                "options { allow-recursion { any; }; };\n",
                "",
                &["fail info gate named.conf:1 named.conf:1 iptables-save.txt:5"],
            ),
            ("options { allow-recursion { 10.4.0.0/24; }; };\n", open, &["pass gate"]),
            ("options { recursion no; };\n", open, &[]),
            (
                "options { allow-recursion { any; }; listen-on { 10.4.0.1; }; listen-on-v6 { none; }; };\n",
                open,
                &["pass gate"],
            ),
            (
                "options { allow-recursion { any; }; listen-on { 127.0.0.1; }; listen-on-v6 { none; }; };\n",
                open,
                &[],
            ),
        ] {
            let wanted: Vec<String> =
                wanted.iter().map(|one| one.replace("named.conf:1 named.conf:1", "named.conf:1")).collect();
            assert_eq!(
                on(&CHECK, &Small { rules, more: &[(FILE, text)], ..Small::default() }),
                wanted,
                "{text} {rules}"
            );
        }
    }
}
