//! A statement whose comment names an end that has passed.

use crate::check::{Answer, Check, Fail, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use std::collections::BTreeSet;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::filter_review::{Temporary, temporary};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::assemble::ExportRecord;
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Export, Line, LineClass, Origin};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "upkeep/expired-exception",
    area: Area::Upkeep,
    title: "Exception past its date",
    severity: Severity::Medium,
    why: "Accounts, tunnels and openings for contractors are agreed for a time, and the date is often recorded in a comment \
          only. Nothing enforces a comment, so the access remains until it is removed by hand.",
    fix: "Establish whether the access is still needed. Remove it, or agree on a new date with an owner and enforce it \
          where the program can (an expiry date of the account, the validity of a certificate).",
    judged: "Fails where a comment marks a statement in effect as temporary and names an end that has passed: a comment \
             directly before the statement or behind it, or the description of an account, a key or a section. Words in several \
             languages count. A date without such a word does not count, since it may be the creation date; rules with comments of \
             their own are judged by the check for temporary rules. `--as-of` sets the reference date. \
             Passes for an end that has not come.",
    references: &["NIST SP 800-53 Rev. 5, AC-2(2)"],
    needs: &[],
    run: Run::Analyses(run),
};

/// Finds the description in a line.
type Describes = fn(&str) -> Option<&str>;

/// Formats in which a line has a place for a description of its own, with the part of it that is one.
const DESCRIBED: [(&str, Describes); 4] = [
    ("passwd", |text| text.split(':').nth(4)),
    // What is behind the key.
    ("ssh-keys", |text| {
        // Read: a line of the export, with the base64 of a key.
        text.split_once(" AAAA").and_then(|(_, key)| key.split_once(' ')).map(|(_, comment)| comment)
    }),
    ("uci", described),
    ("sheet", described),
];

/// The value of a line that describes something: `option name 'vendor until …'`, `comment = "…"`.
fn described(text: &str) -> Option<&str> {
    const KEYS: [&str; 5] = ["name", "comment", "description", "note", "remark"];
    // Read: a line of an export in the notation of UCI.
    let rest = text.strip_prefix("option ").unwrap_or(text);
    let key = KEYS.iter().find(|key| {
        rest.strip_prefix(**key).is_some_and(|value| value.trim_start().starts_with(['=', '\'', '"']))
    })?;
    Some(&rest[key.len()..])
}

/// A statement in effect and what was said of its end.
struct Exception<'a> {
    comment: &'a str,
    temporary: Temporary,
    evidence: Vec<Origin>,
}

impl Exception<'_> {
    fn judged(self, file: &str) -> Verdict {
        if !self.temporary.passed {
            return Verdict::pass_lines(self.evidence);
        }
        let date = self.temporary.named().unwrap_or_default();
        Verdict::Fail(Fail {
            rating: CHECK.rated(format!("{date} has passed, and the statement is in effect")),
            title: format!("Exception until {date} is still in effect in {file}").into(),
            detail: format!("Its comment reads \"{}\".", self.comment).into(),
            evidence: self.evidence,
        })
    }
}

fn run(estate: &Analyses, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        // Comments of rules are judged with the rules, which may be without effect.
        let told: BTreeSet<&str> = estate
            .tables_in_force(at)
            .iter()
            .flat_map(|table| &table.chains)
            .flat_map(|chain| &chain.rules)
            .filter_map(|rule| rule.comment.as_deref())
            .collect();
        for id in &device.exports {
            let record = &estate.exports[id.0 as usize];
            let idle = device.facts.idle_tunnels.iter().any(|one| one.tunnel.origin.export == *id);
            if record.format.is_none() || record.ledger.aside || idle {
                continue;
            }
            for one in exceptions(record, baseline) {
                if told.iter().any(|comment| one.comment.contains(comment)) {
                    continue;
                }
                let file = record.export.file_name();
                let subject = Subject::of(SubjectKind::File).with(file).with(one.comment);
                answers.push(Answer::new(at, subject, one.judged(file)));
            }
        }
    }
    answers
}

/// The text of a comment that makes up a whole line.
fn comment(line: &str) -> Option<&str> {
    let text = line.trim();
    let body = ["<!--", "//", "--", "/*", "#", ";"].into_iter().find_map(|mark| text.strip_prefix(mark))?;
    let body = body.trim_start_matches(['#', ';', '/', '*', '-']).trim();
    let body = ["-->", "*/"].into_iter().find_map(|mark| body.strip_suffix(mark)).unwrap_or(body);
    Some(body.trim())
}

/// Whether a comment is a statement that was switched off rather than prose.
fn is_statement(comment: &str) -> bool {
    comment.contains('=')
        || comment.starts_with(['[', '<', '}', '{'])
        || comment.ends_with(['{', ';', '}'])
        || comment.split_whitespace().count() < 3 && !comment.contains(|one: char| one.is_ascii_digit())
}

fn exceptions<'a>(record: &'a ExportRecord, baseline: &Baseline) -> Vec<Exception<'a>> {
    let export: &Export = &record.export;
    let mut found = Vec::new();
    let dated = |text: &str| {
        text.bytes()
            .any(|one| one.is_ascii_digit())
            .then(|| temporary(text, baseline.as_of))
            .flatten()
            .filter(|one| (one.passed || one.date.is_some()) && !one.trial)
    };
    let understood = |line: &Line<'_>| record.ledger.class(line.number) == Some(LineClass::Understood);
    let description = DESCRIBED
        .iter()
        .find(|(format, _)| record.format == Some(*format))
        .map(|(_, description)| description);
    // The comment directly before, where it names a date until which the exception holds.
    let mut before: Option<(&str, Temporary, Origin)> = None;
    for line in export.lines() {
        let text = line.text.trim();
        if let Some(body) = comment(text) {
            match dated(body) {
                // One whose date has passed is not taken back by a later date.
                Some(later) if !later.passed && before.as_ref().is_some_and(|(_, one, _)| one.passed) => {}
                Some(temporary) => before = Some((body, temporary, export.origin_of(text))),
                // What follows is of another statement.
                None if is_statement(body) => before = None,
                None => {}
            }
            continue;
        }
        let said = before.take();
        if text.is_empty() || !understood(&line) {
            continue;
        }
        let origin = export.origin_of(text);
        if let Some((comment, temporary, place)) = said {
            found.push(Exception { comment, temporary, evidence: vec![origin, place] });
            continue;
        }
        let marks: &[&str] = if text.contains('#') {
            &[" # ", "\t# "]
        } else if text.contains("//") {
            &[" // "]
        } else {
            &[]
        };
        let behind = marks.iter().find_map(|mark| text.split_once(mark)).map(|(_, body)| body);
        let own = behind.or_else(|| description.and_then(|description| description(text)));
        if let Some((comment, temporary)) = own.and_then(|body| Some((body.trim(), dated(body)?))) {
            found.push(Exception { comment, temporary, evidence: vec![origin] });
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{answers_as_of, estate};

    #[test]
    fn cases() {
        let key = "PrivateKey = yAnz5TF+lXXJte14tji3zlMNq+hd2rYUIgJBgB3fBmk=";
        let peer =
            "[Peer]\nPublicKey = xTIBA5rboUvnH4htodjb6e697QjLERt1NAB4mZqp8Dg=\nAllowedIPs = 10.8.0.7/32\n";
        let wireguard =
            |comment: &str| format!("[Interface]\n{key}\nAddress = 10.8.0.1/24\n\n{comment}\n{peer}");
        for (what, path, text, wanted) in [
            (
                "a peer",
                "d/etc/wireguard/wg0.conf",
                wireguard("# TEMP: contractor, until 2026-03-31"),
                vec!["fail medium d wg0.conf:6 wg0.conf:5"],
            ),
            ("a date to come", "d/etc/wireguard/wg0.conf", wireguard("# until 2027-03-31"), vec!["pass d"]),
            ("a date of creation", "d/etc/wireguard/wg0.conf", wireguard("# added 2024-03-31"), vec![]),
            (
                "of a peer that was switched off",
                "d/etc/wireguard/wg0.conf",
                wireguard("# until 2026-03-31\n#[Peer]\n#PublicKey = x"),
                vec![],
            ),
            ("not next to it", "d/etc/wireguard/wg0.conf", wireguard("# until 2026-03-31\n"), vec![]),
            (
                "in German",
                "d/etc/ppp/chap-secrets",
                "# Wartung, befristet bis 30. Juni 2026\nkran l2tpd Kiosk-Tern-Quay-9 10.9.0.9\n".to_owned(),
                vec!["fail medium d chap-secrets:2 chap-secrets:1"],
            ),
            (
                "behind a statement",
                "d/etc/dhcp/dhcpd.conf",
                "subnet 10.4.0.0 netmask 255.255.255.0 {\n range 10.4.0.50 10.4.0.99; # remove after 2026-05-01\n}\n".to_owned(),
                vec!["fail medium d dhcpd.conf:2"],
            ),
            (
                "the description of an account",
                "d/etc/passwd",
                "kran:x:1007:1007:Crane vendor until 2026-01-31:/home/kran:/bin/bash\n".to_owned(),
                vec!["fail medium d passwd:1"],
            ),
        ] {
            let estate = estate(&[(path, text.as_str())]);
            let told = answers_as_of(&CHECK, &estate, jiff::civil::date(2026, 11, 25));
            assert_eq!(told, wanted, "{what}");
        }
    }

    #[test]
    fn rules_with_comments_are_left_to_their_own_check() {
        let rules = "table inet f {\n chain input {\n  type filter hook input priority 0; policy drop;\n  # until 2026-01-31\n  tcp dport 3390 accept\n  tcp dport 3391 accept comment \"until 2026-02-01\"\n }\n}\n";
        let estate = estate(&[("d/etc/nftables.conf", rules)]);
        let told = answers_as_of(&CHECK, &estate, jiff::civil::date(2026, 11, 25));
        assert!(told.is_empty(), "{told:?}");
    }
}
