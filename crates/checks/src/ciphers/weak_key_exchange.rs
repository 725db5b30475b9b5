//! A tunnel may agree on keys in a weak group.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::ciphers::judge;
use crate::subject::{Subject, SubjectKind};
use std::collections::BTreeMap;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::certificate::DhParameters;
use trevlin_model::offer::AlgorithmRole;
use trevlin_model::{ExportId, Origin};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "ciphers/weak-key-exchange",
    area: Area::Ciphers,
    title: "Weak key-exchange group offered",
    severity: Severity::High,
    why: "An attacker who records traffic and breaks the key exchange can decrypt all of it, current and past. Groups of \
          1024 bits and less are within reach of well-funded attackers through precomputation.",
    fix: "Offer elliptic curves of 256 bits or more, Curve25519, or MODP groups of 3072 bits or more.",
    judged: "Fails where a group or curve that may be negotiated is broken, deprecated or being phased out according to the \
             algorithm table, even among stronger ones (a deprecated one is graded high where it is the first choice of the end whose order decides), and where a file of Diffie-Hellman parameters has fewer than 2048 \
             bits. Does not apply to tunnels whose key exchange is not analysed.",
    references: &[
        "RFC 8247, 2.4",
        "NIST SP 800-77 Rev. 1, 3.2",
        "NIST SP 800-131A Rev. 2, 5",
        "BSI TR-02102-3",
    ],
    needs: &[Need::Services, Need::Ssh],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = judge(&CHECK, estate, &[AlgorithmRole::KeyExchange], "key exchange", false);
    for (at, device) in estate.devices.iter().enumerate() {
        let mut files: BTreeMap<ExportId, Vec<&DhParameters>> = BTreeMap::new();
        for parameters in &device.facts.dh_parameters {
            files.entry(parameters.origin.export).or_default().push(parameters);
        }
        for (export, parameters) in files {
            let file = estate.export(export);
            let subject = Subject::of(SubjectKind::File).with(file.file_name());
            // The lines of servers that name the file make it count.
            let named = device.facts.running().filter_map(|tunnel| tunnel.stated("dh"));
            let named = named.filter(|(path, _)| path.rsplit('/').next() == Some(file.file_name()));
            let named = named.map(|(_, origin)| origin).collect();
            answers.push(Answer::new(at, subject, of_file(&parameters, file.file_name(), named)));
        }
    }
    answers
}

/// Parameters in a file of their own (NIST SP 800-131A Rev. 2, 5: 2048 bits; RFC 7919, 1, for smaller ones): the smallest decide.
fn of_file(parameters: &[&DhParameters], file: &str, named: Vec<Origin>) -> Verdict {
    let Some(bits) = parameters.iter().map(|one| one.bits).min() else { return Verdict::DoesNotApply };
    let mut weak: Vec<&&DhParameters> = parameters.iter().filter(|one| one.bits < 2048).collect();
    weak.sort_by_key(|one| one.bits);
    let (severity, why) = match bits {
        2048.. => return Verdict::pass_by(named, parameters[0].origin),
        ..1024 => (Severity::High, "such groups have been broken"),
        _ => (Severity::Medium, "such groups are within reach of well-funded attackers"),
    };
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: format!("Diffie-Hellman parameters of {bits} bits in {file}").into(),
        detail: format!(
            "Servers that use the file agree on keys in a group of {bits} bits; 2048 are required."
        )
        .into(),
        evidence: named.into_iter().chain(weak.into_iter().map(|one| one.origin)).collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        let openvpn = (
            "d/s.conf",
            "dev tun
server 10.88.0.0 255.255.255.0
data-ciphers AES-256-GCM
",
        );
        run(&CHECK, &[("not stated here", &[openvpn], &["none d"])]);
        for (name, text, wanted) in [
            (
                "1024 bits",
                "conn c\n\tauto=add\n\tike=aes256-sha256-modp1024!\n",
                &["fail high d ipsec.conf:3"][..],
            ),
            (
                "768 bits among better ones",
                "conn c\n\tauto=add\n\tike=aes256-sha256-ecp384,aes256-sha256-modp768\n",
                &["fail high d ipsec.conf:3"],
            ),
            (
                "the second choice",
                "conn c\n\tauto=add\n\tike=aes256-sha256-ecp384,aes256-sha256-modp1024!\n",
                &["fail medium d ipsec.conf:3"],
            ),
            ("current", "conn c\n\tauto=add\n\tike=aes256-sha256-ecp384-ke1_mlkem768\n", &["pass d"]),
        ] {
            run(&CHECK, &[(name, &[("d/ipsec.conf", text)], wanted)]);
        }
        for (name, text, wanted) in [
            (
                "parameters of 512 bits",
                "-----BEGIN DH PARAMETERS-----\nMEYCQQDetYznDd7Ulb1/sWuUC/98d+51dojdqhxK8p0ANNSq8nabo2jyKzsXpuYG\nOJIislNg5McSauElh4QDiHYJSrD3AgEC\n-----END DH PARAMETERS-----\n",
                &["fail high d dh.pem:1"][..],
            ),
            (
                "parameters of 1024 bits, with text before them",
                "    DH Parameters: (1024 bit)\n-----BEGIN DH PARAMETERS-----\nMIGHAoGBAN1fXxVoRJCWpfg3NsJkX1ivhf4lHyJoBnMIY6rVqCm7u2HnzLzwKRF3\ncVE1cbgAv5lxHkJ3OmyATyMkT9afxMIDNfbgYgDLVcYpuDh32/mbqob7qXwOdmWz\nQDpDrAiFGVQNxc0iNK4MLvKTXnTE7HsW7L+GopoYSoTMOt2H5CR/AgEC\n-----END DH PARAMETERS-----\n",
                &["fail medium d dh.pem:2"],
            ),
            (
                "parameters of 2048 bits",
                "-----BEGIN DH PARAMETERS-----\nMIIBCAKCAQEA8F493qVv+Nt/yqDrJ4abr42fVmlYf1JCSuIKxP5ysJcC4uyxVFWL\n/X58EylAdU1ze0aUhRA+jjat2L4MeoyUn4GCsF4OSRsiewkK/2DLixOPwFnOoqNT\n/cSUKgSMd7RPYL+KD4gKnLLC/PmzE1Et9W08O4suZTKNXd2KbLZjKsG3X2EufA18\nBO1/tVQwP1qwOxKB7vrYK6nOoJyjMPjq6Qs/0lD14BGb9/IBeCicSYQY1U4w8LDi\nc3S1zJu0gQkUg9hIWVztSEcEXZh5LZbyeGMa4Oe2/tiVKA4PCvOm8fUvsG0N02Ys\n51CEfURCld2X3maUKAJJ4rjsW6QV9SgtlwIBAg==\n-----END DH PARAMETERS-----\n",
                &["pass d"],
            ),
        ] {
            run(&CHECK, &[(name, &[("d/dh.pem", text)], wanted)]);
        }
    }
}
