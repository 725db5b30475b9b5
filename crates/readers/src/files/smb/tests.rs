//! Tests of the reader.

use super::*;
use trevlin_model::ExportId;

fn of(text: &str) -> Reading {
    let export = Export::new(ExportId(0), "d/etc/samba/smb.conf", text.into());
    read(&export, &ReadContext::of(vec![&export]))
}

fn told(text: &str) -> Vec<String> {
    let reading = of(text);
    let line = |part: &ServiceResource| {
        format!(
            "{} {} {:?} {} {:?}",
            part.name,
            part.sources.words(),
            part.login.value(),
            if part.is_written() { "writes" } else { "reads" },
            part.encryption.as_ref().and_then(|one| one.value())
        )
    };
    reading.facts.served[0].parts.iter().map(line).collect()
}

#[test]
fn shares() {
    for (text, wanted) in [
        ("[a]\npath=/a\n", &["a any address Some(Proof) reads Some(Offered)"][..]),
        ("[a]\nguest ok = yes\n", &["a any address Some(Nothing) reads Some(Offered)"]),
        ("[a]\nPUBLIC=Yes\nwrite ok = 1\n", &["a any address Some(Nothing) writes Some(Offered)"]),
        (
            "[a]\nguestok=yes\nread only = no\nwritable=no\n",
            &["a any address Some(Nothing) reads Some(Offered)"],
        ),
        // The share's own setting counts, either way.
        (
            "[global]\nguest ok = yes\nread only = no\n[a]\nguest ok = no\n[b]\n",
            &[
                "a any address Some(Proof) writes Some(Offered)",
                "b any address Some(Nothing) writes Some(Offered)",
            ],
        ),
        // A second global section after a share does not apply to it.
        (
            "[a]\n[global]\nguest ok = yes\n[b]\n",
            &[
                "a any address Some(Proof) reads Some(Offered)",
                "b any address Some(Nothing) reads Some(Offered)",
            ],
        ),
        ("[a]\nguest ok = yes\nvalid users = ann\n", &["a any address Some(Proof) reads Some(Offered)"]),
        (
            "[a]\nguest ok = yes\nvalid users = ann, nobody\n",
            &["a any address Some(Nothing) reads Some(Offered)"],
        ),
        ("[a]\nguest ok = yes\nwrite list = nobody\n", &["a any address Some(Nothing) writes Some(Offered)"]),
        (
            "[a]\nhosts allow = 10.4. EXCEPT 10.4.9.\n",
            &["a 10.4.0.0-10.4.8.255, 10.4.10.0-10.4.255.255 Some(Proof) reads Some(Offered)"],
        ),
        (
            "[global]\nhosts allow = 10.4.0.0/16\n[a]\nallow hosts = 10.4.5. 10.9.\n",
            &["a 10.4.5.0/24 Some(Proof) reads Some(Offered)"],
        ),
        ("[a]\nhosts deny = ALL\n", &["a no address Some(Proof) reads Some(Offered)"]),
        ("[a]\nhosts deny = ALL\nhosts allow = 10.4.0.9\n", &["a 10.4.0.9 Some(Proof) reads Some(Offered)"]),
        ("[a]\nsmb encrypt = required\n", &["a any address Some(Proof) reads Some(Required)"]),
        ("[a]\navailable = no\n[p]\nprintable = yes\n[IPC$]\npath=/tmp\n", &[]),
        (
            "[a]\nguest ok = yes\n[b]\ncopy = a\n",
            &[
                "a any address Some(Nothing) reads Some(Offered)",
                "b any address Some(Nothing) reads Some(Offered)",
            ],
        ),
        (
            "# [a]\n; guest ok = yes\n[b]\npath = \\\n /b\n[B]\nguest ok = yes\n",
            &["b any address Some(Nothing) reads Some(Offered)"],
        ),
    ] {
        assert_eq!(told(text), wanted, "{text}");
        assert!(of(text).ledger.notes.is_empty(), "{text}: {:?}", of(text).ledger.notes);
    }
}

#[test]
fn places_and_dialects() {
    for (text, wanted) in [
        ("[global]\n", "None/445 None/139 SMB2_02-SMB3_11"),
        ("[global]\nmin protocol = NT1\nmax protocol = SMB2\n", "None/445 None/139 NT1-SMB2_10"),
        ("[global]\nsmb ports = 445\ninterfaces = lo eth1\n", "None/445 SMB2_02-SMB3_11"),
        (
            "[global]\nsmb ports = 445\ninterfaces = 127.0.0.1/8 eth1\nbind interfaces only = yes\nserver min protocol = SMB3\n",
            "Some(127.0.0.1)/445 None%eth1/445 SMB3_00-SMB3_11",
        ),
    ] {
        let reading = of(text);
        let served = &reading.facts.served[0];
        let mut told: Vec<String> = served
            .endpoints
            .iter()
            .map(|one| {
                let interface = one.interface.as_ref().map(|name| format!("%{name}")).unwrap_or_default();
                format!("{:?}{interface}/{}", one.address, one.port)
            })
            .collect();
        let names = &served.offers[0].algorithms;
        told.push(format!("{}-{}", names[0].name, names[names.len() - 1].name));
        assert_eq!(told.join(" "), wanted, "{text}");
    }
}

#[test]
fn what_it_cannot_tell() {
    for (text, notes, open) in [
        ("[global]\ncolour = red\n", 1, 0),
        ("[global\n", 1, 0),
        ("nothing\n", 1, 0),
        ("[global]\ninclude = /etc/samba/more.conf\n", 1, 1),
        ("[global]\ninclude = /etc/samba/%m.conf\n", 0, 1),
        ("[global]\ninclude = registry\n", 0, 1),
        ("[global]\nconfig backend = registry\n", 0, 1),
        ("[global]\nvfs:x = y\nlog level = 1\n", 0, 0),
    ] {
        let reading = of(text);
        let told = (reading.ledger.notes.len(), reading.facts.served[0].open.len());
        assert_eq!(told, (notes, open), "{text}");
    }
}
