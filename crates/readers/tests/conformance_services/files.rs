//! Exports against exportfs, modules against an rsync server, folders against FTP servers.

use crate::{Running, Seeded, facts, part, run, service, told, write};
use std::collections::BTreeMap;
use trevlin_model::served::{AuthRequirement, Remark, ServiceResource};

/// The table that exportfs writes: options by path and client.
fn exported(text: &str) -> BTreeMap<(String, String), String> {
    let folder = tempfile::tempdir().unwrap();
    let table = write(&folder.path().join("exports"), text);
    let state = folder.path().join("nfs");
    std::fs::create_dir(&state).unwrap();
    let script = format!(
        "mkdir -p /var/lib/nfs && touch /etc/exports && mount --bind {} /var/lib/nfs && mount --bind {table} /etc/exports && exportfs -ra; cat /var/lib/nfs/etab",
        state.display()
    );
    let output = run("unshare", &["-m", "bash", "-c", &script]);
    let mut found = BTreeMap::new();
    for line in String::from_utf8(output.stdout).unwrap().lines() {
        let Some((path, rest)) = line.split_once('\t') else { continue };
        let (client, options) = rest.split_once('(').unwrap();
        found.insert((path.to_owned(), client.to_owned()), options.trim_end_matches(')').to_owned());
    }
    found
}

/// The options that hold for the least protected flavour of an entry.
fn of_weakest(options: &str) -> Vec<&str> {
    const ORDER: [&str; 4] = ["sys", "krb5", "krb5i", "krb5p"];
    let mut groups: Vec<(usize, Vec<&str>)> = Vec::new();
    for option in options.split(',') {
        match option.strip_prefix("sec=") {
            Some(list) => {
                let place = |flavour: &str| ORDER.iter().position(|one| *one == flavour).unwrap();
                groups.push((list.split(':').map(place).min().unwrap(), Vec::new()));
            }
            None => groups.last_mut().into_iter().for_each(|group| group.1.push(option)),
        }
    }
    groups.into_iter().min_by_key(|group| group.0).unwrap().1
}

/// The client of a part as exportfs writes it.
fn client(part: &ServiceResource) -> String {
    match part.sources.names.first() {
        Some(name) => name.clone(),
        None if part.sources.is_everybody() => "*".into(),
        None => part.sources.words(),
    }
}

#[test]
#[ignore = "needs exportfs and root; run by scripts/conformance.sh"]
fn exportfs_reads_the_same() {
    const PATHS: [&str; 5] = ["/tmp", "/srv", "/usr", "/opt", "/var"];
    const CLIENTS: [&str; 6] = ["10.4.0.0/24", "10.4.0.9", "10.5.0.0/16", "*", "@desks", "*.yard.example"];
    const OPTIONS: [&str; 14] = [
        "rw",
        "ro",
        "no_root_squash",
        "root_squash",
        "all_squash",
        "insecure",
        "secure",
        "sec=krb5p",
        "sec=sys",
        "sec=krb5:sys",
        "sec=krb5i",
        "anonuid=0",
        "anonuid=1005",
        "async",
    ];
    let mut seeded = Seeded(47);
    let mut compared = 0;
    for _ in 0..30 {
        let mut text = String::from("# exports\n");
        for path in PATHS {
            let defaults = seeded.some(&OPTIONS, 2);
            let defaults =
                if defaults.is_empty() { String::new() } else { format!(" -{}", defaults.join(",")) };
            text.push_str(&format!("{path}{defaults}"));
            let mut clients: Vec<&str> = seeded.some(&CLIENTS, 3);
            clients.sort_unstable();
            clients.dedup();
            for client in clients {
                let joint = if seeded.below(6) == 0 { " \\\n  " } else { " " };
                let options = seeded.some(&OPTIONS, 4);
                let options =
                    if options.is_empty() { String::new() } else { format!("({})", options.join(",")) };
                text.push_str(&format!("{joint}{client}{options}"));
            }
            text.push('\n');
        }
        let theirs = exported(&text);
        let served = service(&[("d/etc/exports", &text)]);
        for one in &served.parts {
            let name = client(one);
            let options = theirs
                .get(&(one.name.clone(), name.clone()))
                .or_else(|| theirs.get(&(one.name.clone(), String::new())))
                .unwrap_or_else(|| panic!("{} to {name} in\n{text}{theirs:?}", one.name));
            let has = |wanted: &str| options.split(',').any(|option| option == wanted);
            let flavours: Vec<&str> = options
                .split(',')
                .filter_map(|one| one.strip_prefix("sec="))
                .flat_map(|one| one.split(':'))
                .collect();
            let asked =
                if flavours.contains(&"sys") { AuthRequirement::Address } else { AuthRequirement::Proof };
            assert_eq!(one.login.value(), Some(&asked), "{} to {name} in\n{text}{options}", one.name);
            // Behind each list of flavours stand the options that hold for them; the least protected flavour counts.
            let own = of_weakest(options);
            let holds = |wanted: &str| own.contains(&wanted);
            assert_eq!(one.is_written(), holds("rw"), "{} to {name} in\n{text}{options}", one.name);
            let squashed = holds("all_squash");
            let root = (holds("no_root_squash") && !squashed) || (squashed && has("anonuid=0"));
            assert_eq!(
                one.remark(Remark::RootKept).is_some(),
                root,
                "{} to {name} in\n{text}{options}",
                one.name
            );
            assert_eq!(
                one.remark(Remark::AnyPort).is_some(),
                has("insecure"),
                "{} to {name} in\n{text}{options}",
                one.name
            );
            compared += 1;
        }
        assert_eq!(served.parts.len(), theirs.len(), "{text}{theirs:?}");
    }
    println!("30 tables, {compared} exports compared with exportfs");
}

#[test]
#[ignore = "needs rsync; run by scripts/conformance.sh"]
fn rsync_lets_in_whom_it_says() {
    const LINES: [&str; 9] = [
        "read only = no\n",
        "read only = yes\n",
        "auth users = ann\nsecrets file = /dev/null\n",
        "hosts allow = 127.0.0.2\n",
        "hosts allow = 127.0.0.0/24\n",
        "hosts deny = 127.0.0.3\n",
        "hosts deny = *\n",
        "hosts allow = 127.0.0.2\nhosts deny = *\n",
        "list = no\n",
    ];
    let mut seeded = Seeded(53);
    let mut asked = 0;
    for round in 0..4 {
        let folder = tempfile::tempdir().unwrap();
        run("chmod", &["755", &folder.path().display().to_string()]);
        let port = 8730 + round;
        let mut text = format!(
            "uid = nobody\ngid = nogroup\nuse chroot = no\nport = {port}\naddress = 0.0.0.0\n{}",
            seeded.some(&LINES, 1).concat()
        );
        for number in 0..6 {
            let path = folder.path().join(format!("m{number}"));
            std::fs::create_dir(&path).unwrap();
            run("chmod", &["777", &path.display().to_string()]);
            text.push_str(&format!(
                "[m{number}]\npath = {}\n{}",
                path.display(),
                seeded.some(&LINES, 2).concat()
            ));
        }
        let file = write(&folder.path().join("rsyncd.conf"), &text);
        let _running = Running::start("rsync", &["--daemon", "--no-detach", "--config", &file]).answers(port);
        let served = service(&[("d/etc/rsyncd.conf", &text)]);
        for number in 0..6 {
            let one = part(&served, &format!("m{number}")).unwrap();
            for from in ["127.0.0.1", "127.0.0.2", "127.0.0.3"] {
                let target = format!("rsync://127.0.0.1:{port}/m{number}/");
                let come_from = format!("--address={from}");
                let lists = run(
                    "rsync",
                    &["-q", "--contimeout=5", "--no-motd", &come_from, "--password-file=/dev/null", &target],
                );
                let puts = run("rsync", &["-q", "--contimeout=5", &come_from, "/etc/hostname", &target]);
                let open = one.asks_nothing() && one.sources.contains(from.parse().unwrap());
                assert_eq!(lists.status.success(), open, "{from} reads m{number} in\n{text}{}", told(&lists));
                assert_eq!(
                    puts.status.success(),
                    open && one.is_written(),
                    "{from} writes m{number} in\n{text}{}",
                    told(&puts)
                );
                asked += 1;
            }
        }
    }
    println!("{asked} modules asked");
}

#[test]
#[ignore = "needs proftpd; run by scripts/conformance.sh"]
fn proftpd_takes_what_is_understood() {
    let folder = tempfile::tempdir().unwrap();
    for (text, fits) in [
        ("ServerType standalone\nPort 2121\nUser nobody\nGroup nogroup\n", true),
        (
            "ServerType standalone\nUser nobody\nGroup nogroup\n<Anonymous /tmp>\nUser nobody\nGroup nogroup\n<Limit WRITE>\nDenyAll\n</Limit>\n</Anonymous>\n",
            true,
        ),
        (
            "ServerType standalone\n<Limit LOGIN>\nOrder deny,allow\nAllow from 10.4.0.0/24\nDenyAll\n</Limit>\n",
            true,
        ),
        ("ServerType standalone\nColour red\n", false),
        ("ServerType standalone\n<Limit LOGIN>\n", false),
    ] {
        let file = write(&folder.path().join("proftpd.conf"), text);
        run("chmod", &["644", &file]);
        let output = run("proftpd", &["-t", "-c", &file]);
        assert_eq!(output.status.success(), fits, "{text}{}", told(&output));
        let export = trevlin_model::Export::new(
            trevlin_model::ExportId(0),
            "d/etc/proftpd/proftpd.conf",
            text.to_owned(),
        );
        let reader = trevlin_readers::recognise(&export).reader.unwrap();
        let reading = (reader.read)(&export, &trevlin_readers::ReadContext::of(vec![&export]));
        assert_eq!(reading.ledger.notes.is_empty(), fits, "{text}");
    }
}

/// An FTP server with and without anonymous access and write access.
#[test]
#[ignore = "needs vsftpd and curl; run by scripts/conformance.sh"]
fn vsftpd_lets_in_whom_it_says() {
    let program = crate::program("VSFTPD", "vsftpd");
    let mut asked = 0;
    for (number, lines) in [
        "anonymous_enable=YES\n",
        "anonymous_enable=NO\nlocal_enable=YES\n",
        "anonymous_enable=YES\nwrite_enable=YES\n",
        "anonymous_enable=YES\nwrite_enable=YES\nanon_upload_enable=YES\n",
        "anonymous_enable=YES\nanon_upload_enable=YES\n",
    ]
    .into_iter()
    .enumerate()
    {
        let folder = tempfile::tempdir().unwrap();
        run("chmod", &["755", &folder.path().display().to_string()]);
        let root = folder.path().join("root");
        std::fs::create_dir_all(root.join("in")).unwrap();
        std::fs::create_dir_all(folder.path().join("empty")).unwrap();
        run("chmod", &["777", &root.join("in").display().to_string()]);
        let port = 2130 + number as u16;
        let text = format!(
            "listen=YES\nlisten_port={port}\nlisten_address=127.0.0.1\nbackground=NO\nanon_root={}\nsecure_chroot_dir={}\nftp_username=games\n{lines}",
            root.display(),
            folder.path().join("empty").display()
        );
        let file = write(&folder.path().join("vsftpd.conf"), &text);
        let _running = Running::start(&program, &[&file]).answers(port);
        let served = service(&[("d/etc/vsftpd.conf", &text)]);
        let one = part(&served, "for anonymous users");
        let url = format!("ftp://127.0.0.1:{port}/in/");
        let lists = run("curl", &["-s", "--max-time", "5", &url]);
        let puts = run("curl", &["-s", "--max-time", "5", "-T", "/etc/hostname", &url]);
        let open = one.is_some_and(ServiceResource::asks_nothing);
        assert_eq!(lists.status.success(), open, "{text}{}", told(&lists));
        assert_eq!(
            puts.status.success(),
            open && one.is_some_and(ServiceResource::is_written),
            "{text}{}",
            told(&puts)
        );
        assert!(served.is_local());
        asked += 1;
    }
    println!("{asked} FTP servers asked");
    assert!(facts(&[("d/etc/vsftpd.conf", "anonymous_enable=NO\n")]).served[0].parts.is_empty());
}
