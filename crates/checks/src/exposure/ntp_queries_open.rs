//! An NTP server answers status queries, or serves time, to any address.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, Who, is_few, of_kinds};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::{Baseline, Thresholds};
use trevlin_model::served::{Remark, ServedKind, ServiceResource};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/ntp-queries-open",
    area: Area::Exposure,
    title: "NTP status queries open to any address",
    severity: Severity::Low,
    why: "NTP status queries have responses many times their size, which attackers direct at forged source addresses. The \
          responses also reveal other clients. Public time service is available elsewhere.",
    fix: "Set `restrict default nomodify nopeer noquery limited kod` (or `ignore`), and permit queries from the device \
          itself and from monitoring hosts. Name the served networks (`allow 10.0.0.0/8`), and keep commands on the loopback \
          address.",
    judged: "Fails where status queries are answered for any address; one level higher where the Internet reaches it. A \
             public NTP server fails where the Internet reaches it. Passes where addresses are named, and for a client \
             without a server. Undetermined where an included file is missing.",
    references: &["RFC 8633, 5.4", "ntp.conf(5), restrict", "chrony.conf(5), cmdallow", "US-CERT TA14-013A"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for one in of_kinds(estate, &[ServedKind::Time]).filter(|one| !one.served.is_local()) {
        answers.extend(one.open_answer());
        for part in &one.served.parts {
            answers.push(Answer::new(
                one.device,
                Subject::part(one.served, part),
                judge(one, part, baseline.at(one.device)),
            ));
        }
    }
    answers
}

fn judge(one: ServiceCase<'_>, part: &ServiceResource, thresholds: &Thresholds) -> Verdict {
    let status = part.remark(Remark::Status).is_some();
    let outside = matches!(one.who(&part.sources), Who::Outside(_));
    if !part.sources.is_everybody() || is_few(&part.sources, thresholds) || !(status || outside) {
        return one.holds_by_limit(part);
    }
    let base = match status {
        true => CHECK.rating(),
        false => CHECK.rating().lowered("only the time itself is served to unknown clients"),
    };
    let what = if status {
        "answers NTP status queries from any address"
    } else {
        "serves the time to any address on the Internet"
    };
    one.fail(
        base,
        part,
        format!("{} {what}", one.title()),
        if status { "No line restricts queries." } else { "No line restricts the served networks." }.into(),
        part.lines(),
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exposure::testing::{Small, on};

    #[test]
    fn cases() {
        let inner = "-A INPUT -i eth1 -j ACCEPT\n";
        let open = "-A INPUT -p udp --dport 123 -j ACCEPT\n";
        for (file, text, rules, wanted) in [
            (
                "ntp.conf",
                "server time.example\n",
                open,
                &[
                    "fail low gate ntp.conf:1 iptables-save.txt:9",
                    "fail medium gate ntp.conf:1 iptables-save.txt:9",
                ][..],
            ),
            ("ntp.conf", "server time.example\n", inner, &["pass gate", "fail low gate ntp.conf:1"]),
            (
                "ntp.conf",
                "server time.example\n",
                "",
                &["pass gate", "fail info gate ntp.conf:1 iptables-save.txt:5"],
            ),
            ("ntp.conf", "restrict default noquery\nrestrict 127.0.0.1\n", "", &["pass gate", "pass gate"]),
            ("ntp.conf", "restrict default ignore\n", open, &[]),
            ("chrony.conf", "allow 10.4.0.0/24\n", open, &["pass gate"]),
            ("ntp.conf", "restrict default noquery\nincludefile more.conf\n", "", &["ask gate", "pass gate"]),
            ("chrony.conf", "allow 10.4.0.0/24\ninclude /etc/more\n", open, &["ask gate", "pass gate"]),
            ("chrony.conf", "allow\n", open, &["fail low gate chrony.conf:1 iptables-save.txt:9"]),
            ("chrony.conf", "pool time.example\n", open, &[]),
        ] {
            let path = format!("gate/etc/{file}");
            assert_eq!(
                on(&CHECK, &Small { rules, more: &[(&path, text)], ..Small::default() }),
                wanted,
                "{text}"
            );
        }
    }
}
