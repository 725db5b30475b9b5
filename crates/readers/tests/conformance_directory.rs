//! Generated configurations of slapd: what clients without a login, any user, and each user with the own account may do, as the running
//! server answers it. Every second configuration is read as the entries below `cn=config` that slaptest(8) makes of it.
//!
//! Run by `scripts/conformance.sh`; needs slapd, ldap-utils and root.

#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::disallowed_methods,
    reason = "a test that runs programs"
)]

mod support;

use std::fmt::Write as _;
use std::fs;
use std::io::Write as _;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use support::Dice;
use trevlin_model::served::{AuthRequirement, PartKind, Served, ServiceResource};
use trevlin_model::{Export, ExportId};
use trevlin_readers::{READERS, ReadContext};

/// Servers that are started.
const SERVERS: u64 = 40;
/// Password of every user.
const PASSWORD: &str = "Anker-7-Mole";
const SUFFIX: &str = "dc=quay,dc=example";

/// Rules of access, of several styles.
const RULES: [&str; 34] = [
    "to attrs=userPassword by self write by anonymous auth by * none",
    "to attrs=userPassword,shadowLastChange\n\tby self =xw\n\tby anonymous auth\n\tby * none",
    "to attrs=userPassword by users read by anonymous auth",
    "to attrs=userPassword by dn.exact=\"cn=admin,dc=quay,dc=example\" write by self write by * auth",
    "to attrs=userPassword by self write by * break",
    "to attrs=userPassword val.regex=\"^.CRYPT.\" by * none",
    "to attrs=userPassword by peername.ip=10.4.0.0%255.255.0.0 read by anonymous auth by * none",
    "to attrs=userPassword by peername.ip=127.0.0.0%255.0.0.0 read by anonymous auth by * none",
    "to dn.base=\"\" by * read",
    "to dn.subtree=\"ou=people,dc=quay,dc=example\" by self write by users read by * auth",
    "to dn.subtree=\"ou=people,dc=quay,dc=example\" attrs=uid,cn by * read",
    "to dn.children=\"ou=people,dc=quay,dc=example\" attrs=userPassword by dn.subtree=\"ou=services,dc=quay,dc=example\" read by anonymous auth",
    "to dn.one=\"ou=groups,dc=quay,dc=example\" by * read",
    "to dn.base=\"ou=groups,dc=quay,dc=example\" by users write by * search",
    "to dn.regex=\"^uid=([^,]+),ou=people,dc=quay,dc=example$\" by dn.exact,expand=\"uid=$1,ou=people,dc=quay,dc=example\" write by users read by anonymous auth",
    "to dn.regex=\"ou=services,dc=quay,dc=example$\" by * none",
    "to filter=(objectClass=posixGroup) by users write by * read",
    "to filter=\"(objectClass=posixAccount)\" attrs=userPassword by * none",
    "to attrs=entry,children by users write by * read",
    "to attrs=entry by * read",
    "to attrs=@posixAccount by self write by users read by anonymous auth",
    "to attrs=!posixAccount by * none",
    "to attrs=uidNumber,gidNumber by * read",
    "to attrs=uidNumber,gidNumber,homeDirectory by dn=\"cn=admin,dc=quay,dc=example\" write by users read",
    "to * by group.exact=\"cn=admins,ou=groups,dc=quay,dc=example\" write by * break",
    "to * by self write by users read by anonymous auth",
    "to * by * read",
    "to * by users read by * none",
    "to * by dn.regex=\"^uid=[^,]+,ou=people,dc=quay,dc=example$$\" write by * search",
    "to * by ssf=128 read by * none",
    "to * by anonymous =rscx continue by * +d",
    "to * by * +rs break",
    "to * by dn.children=\"ou=people,dc=quay,dc=example\" write by dn=\"cn=admin,dc=quay,dc=example\" manage",
    "to * by domain.subtree=quay.example read by users search",
];

/// Entries with a password each, where they may have one.
fn tree() -> String {
    let mut text = format!(
        "dn: {SUFFIX}\nobjectClass: dcObject\nobjectClass: organization\ndc: quay\no: Quay\ndescription: first\nuserPassword: {PASSWORD}\n\n"
    );
    for unit in ["people", "groups", "services", "yard"] {
        write!(
            text,
            "dn: ou={unit},{SUFFIX}\nobjectClass: organizationalUnit\nou: {unit}\ndescription: first\nuserPassword: {PASSWORD}\n\n"
        )
        .unwrap();
    }
    let inner = "ou=inner,ou=people,dc=quay,dc=example";
    write!(text, "dn: {inner}\nobjectClass: organizationalUnit\nou: inner\ndescription: first\nuserPassword: {PASSWORD}\n\n").unwrap();
    for (number, dn) in USERS.iter().enumerate() {
        let uid = dn.split(['=', ',']).nth(1).unwrap();
        write!(
            text,
            "dn: {dn}\nobjectClass: inetOrgPerson\nobjectClass: posixAccount\nuid: {uid}\ncn: {uid}\nsn: {uid}\ndescription: first\n\
             uidNumber: {}\ngidNumber: 1000\nhomeDirectory: /home/{uid}\nuserPassword: {PASSWORD}\n\n",
            1000 + number
        )
        .unwrap();
    }
    for dn in ["cn=staff,ou=groups,dc=quay,dc=example", "cn=lower,cn=staff,ou=groups,dc=quay,dc=example"] {
        let cn = dn.split(['=', ',']).nth(1).unwrap();
        write!(text, "dn: {dn}\nobjectClass: posixGroup\ncn: {cn}\ngidNumber: 1000\ndescription: first\nuserPassword: {PASSWORD}\n\n").unwrap();
    }
    text
}

/// Users: in the tree of people, among services, elsewhere, and below each.
const USERS: [&str; 7] = [
    "uid=ann,ou=people,dc=quay,dc=example",
    "uid=bob,ou=people,dc=quay,dc=example",
    "uid=low,ou=inner,ou=people,dc=quay,dc=example",
    "uid=svc,ou=services,dc=quay,dc=example",
    "uid=any,ou=yard,dc=quay,dc=example",
    "uid=top,dc=quay,dc=example",
    "uid=sub,uid=svc,ou=services,dc=quay,dc=example",
];

/// All entries.
fn names() -> Vec<String> {
    tree().lines().filter_map(|line| line.strip_prefix("dn: ")).map(str::to_owned).collect()
}

fn config(dice: &mut Dice, folder: &str) -> String {
    let mut text = String::from(
        "# generated\ninclude /etc/ldap/schema/core.schema\ninclude /etc/ldap/schema/cosine.schema\ninclude /etc/ldap/schema/nis.schema\n\
         include /etc/ldap/schema/inetorgperson.schema\nmodulepath /usr/lib/ldap\nmoduleload back_mdb\n",
    );
    if dice.roll(6) == 0 {
        text.push_str("allow update_anon bind_v2\n");
    }
    if dice.roll(6) == 0 {
        text.push_str("disallow bind_anon\n");
    }
    if dice.roll(8) == 0 {
        text.push_str("require authc\n");
    }
    if dice.roll(4) == 0 {
        writeln!(text, "access {}", dice.pick(&RULES)).unwrap();
    }
    writeln!(text, "database mdb\nsuffix \"{SUFFIX}\"\nrootdn cn=admin,{SUFFIX}\nrootpw {PASSWORD}\ndirectory {folder}/db").unwrap();
    if dice.roll(8) == 0 {
        text.push_str("readonly on\n");
    }
    for _ in 0..dice.roll(5) {
        writeln!(text, "access {}", dice.pick(&RULES)).unwrap();
    }
    if dice.roll(2) == 0 {
        writeln!(text, "access {}", dice.pick(&RULES[24..])).unwrap();
    }
    text
}

struct Running(Child);

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn output(program: &str, arguments: &[&str], input: &str) -> (bool, String) {
    let mut child = Command::new(program)
        .args(arguments)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
    let output = child.wait_with_output().unwrap();
    let text =
        [output.stdout, output.stderr].map(|bytes| String::from_utf8_lossy(&bytes).into_owned()).concat();
    (output.status.success(), text)
}

/// Answers of the server to a client, anywhere: read an ordinary attribute, read a password, write an attribute.
fn told(url: &str, user: Option<&str>) -> [bool; 3] {
    let login: Vec<&str> = user.map_or(Vec::new(), |user| vec!["-D", user, "-w", PASSWORD]);
    let mut found = [false; 3];
    for (filters, attribute, place) in [
        (["(objectClass=*)", "(description=*)"], "description", 0),
        (["(objectClass=*)", "(userPassword=*)"], "userPassword", 1),
    ] {
        // The own entry is another question.
        for name in names().into_iter().filter(|name| Some(name.as_str()) != user) {
            if user.is_none() {
                found[place] |= unbound(url, &name, attribute);
            }
            for filter in filters {
                let mut arguments = vec!["-x", "-LLL", "-H", url, "-s", "base", "-b", &name];
                arguments.extend(&login);
                arguments.extend([filter, attribute]);
                found[place] |= output("ldapsearch", &arguments, "").1.contains(&format!("\n{attribute}:"));
            }
            if found[place] {
                break;
            }
        }
    }
    let mut arguments = vec!["-x", "-c", "-H", url];
    arguments.extend(&login);
    let mut changes = String::new();
    for name in names().iter().filter(|name| Some(name.as_str()) != user) {
        write!(changes, "dn: {name}\nchangetype: modify\nreplace: description\ndescription: first\n\n")
            .unwrap();
    }
    let (_, text) = output("ldapmodify", &arguments, &changes);
    let tried = names().len() - usize::from(user.is_some());
    let refused = text.matches("ldap_modify:").count();
    found[2] = !text.contains("ldap_bind:") && refused < tried;
    found
}

/// Whether a search without any login before it shows an attribute: ldapsearch(1) always logs in first (RFC 4511, 4.5).
fn unbound(url: &str, name: &str, attribute: &str) -> bool {
    let piece = |tag: u8, inner: &[u8]| {
        let mut bytes = vec![tag, u8::try_from(inner.len()).unwrap()];
        bytes.extend(inner);
        bytes
    };
    let mut request = piece(0x04, name.as_bytes());
    // Scope, aliases, limits of size and time, values wanted; the filter; the attribute.
    request.extend([0x0a, 1, 0, 0x0a, 1, 0, 0x02, 1, 0, 0x02, 1, 0, 0x01, 1, 0]);
    request.extend(piece(0x87, b"objectClass"));
    request.extend(piece(0x30, &piece(0x04, attribute.as_bytes())));
    let mut message = vec![0x02, 1, 1];
    message.extend(piece(0x63, &request));
    let mut stream = std::net::TcpStream::connect(url.trim_start_matches("ldap://")).unwrap();
    stream.write_all(&piece(0x30, &message)).unwrap();
    stream.set_read_timeout(Some(std::time::Duration::from_millis(500))).unwrap();
    let mut all: Vec<u8> = Vec::new();
    let mut part = [0_u8; 4096];
    // The result is the last message: application 5.
    while let Ok(count @ 1..) = std::io::Read::read(&mut stream, &mut part) {
        all.extend(&part[..count]);
        if all.windows(4).any(|four| four[0] == 0x02 && four[2] == 1 && four[3] == 0x65) {
            break;
        }
    }
    all.windows(attribute.len()).any(|window| window == attribute.as_bytes())
}

fn of(config: &str, entries: bool) -> Served {
    let path = if entries { "d/slapd-config.ldif" } else { "d/etc/ldap/slapd.conf" };
    let export = Export::new(ExportId(0), path, config.to_owned());
    let reader = READERS.iter().find(|one| one.name == "slapd").unwrap();
    let mut reading = (reader.read)(&export, &ReadContext::of(vec![&export]));
    assert!(reading.ledger.notes.is_empty(), "{config}: {:?}", reading.ledger.notes);
    reading.facts.served.remove(0)
}

/// The same by the parts of the service, for clients without a login, of any user, and of users with names of these.
fn said(served: &Served, anonymous: bool, names: &[&str]) -> [bool; 3] {
    let here = |part: &&ServiceResource| {
        let login = part.login.value() == Some(&AuthRequirement::Nothing);
        let user = !anonymous
            && (part.users.is_empty()
                || names.iter().any(|name| part.users.iter().any(|one| one.contains(name))));
        let whole = part.label.as_deref().is_none_or(|label| label == part.name)
            || part.kind != PartKind::Entries
            || part.name.contains("description");
        part.sources.contains([127, 0, 0, 1].into()) && (login || user) && whole
    };
    let any = |fits: &dyn Fn(&ServiceResource) -> bool| served.parts.iter().filter(here).any(fits);
    [
        any(&|part| part.kind == PartKind::Entries && !part.is_written()),
        any(&|part| part.kind == PartKind::PasswordHashes),
        any(&|part| part.kind == PartKind::Entries && part.is_written()),
    ]
}

fn one(number: u64, folder: &Path) -> String {
    let mut dice = Dice::new(number + 4300);
    let place = folder.to_str().unwrap();
    let text = config(&mut dice, place);
    fs::create_dir_all(folder.join("db")).unwrap();
    let file = folder.join("slapd.conf");
    fs::write(&file, &text).unwrap();
    let file = file.to_str().unwrap();
    // It is loaded before it is closed.
    let open = folder.join("open.conf");
    fs::write(&open, text.replace("readonly on", "")).unwrap();
    let (loaded, why) = output("slapadd", &["-q", "-f", open.to_str().unwrap()], &tree());
    assert!(loaded, "{why} {text}");
    let read = if number.is_multiple_of(2) {
        text.clone()
    } else {
        let made = folder.join("made");
        fs::create_dir_all(&made).unwrap();
        let made = made.to_str().unwrap();
        assert!(output("slaptest", &["-f", file, "-F", made], "").0, "{text}");
        output("slapcat", &["-n", "0", "-F", made], "").1
    };
    let served = of(&read, number % 2 == 1);
    let url = format!("ldap://127.0.0.1:{}", 10389 + number);
    let child = Command::new("slapd")
        .args(["-d", "0", "-h", &url, "-f", file])
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let _running = Running(child);
    for _ in 0..100 {
        std::thread::sleep(std::time::Duration::from_millis(50));
        if std::net::TcpStream::connect(("127.0.0.1", 10389 + u16::try_from(number).unwrap())).is_ok() {
            break;
        }
    }
    let mut wrong = Vec::new();
    let mut all = [false; 3];
    for (who, user, names) in [
        ("anonymous", None, &[][..]),
        ("any", Some(USERS[4]), &[]),
        ("people", Some(USERS[0]), &["ou=people"]),
        ("services", Some(USERS[3]), &["ou=services"]),
    ] {
        // A user whose password is not compared cannot log in.
        if let Some(user) = user {
            let (bound, _) = output("ldapwhoami", &["-x", "-H", &url, "-D", user, "-w", PASSWORD], "");
            if !bound {
                continue;
            }
        }
        let (mut server, own) = (told(&url, user), said(&served, user.is_none(), names));
        match user {
            None => all = server,
            // Everyone can leave the login out.
            Some(_) => server.iter_mut().zip(all).for_each(|(one, all)| *one |= all),
        }
        if server != own {
            wrong.push(format!("{who}: server {server:?}, read {own:?}"));
        }
    }
    let change = format!("dn: {}\nchangetype: modify\nreplace: uidNumber\nuidNumber: 1000\n\n", USERS[0]);
    let (changed, text_of) =
        output("ldapmodify", &["-x", "-H", &url, "-D", USERS[0], "-w", PASSWORD], &change);
    let own = served.parts.iter().any(|part| {
        (part.kind == PartKind::OwnAccount || (part.kind == PartKind::Entries && part.is_written()))
            && (part.users.is_empty() || part.users.iter().any(|one| one.contains("ou=people")))
    });
    if changed != own && !text_of.contains("ldap_bind") {
        wrong.push(format!("own number: server {changed}, read {own}"));
    }
    if wrong.is_empty() {
        String::new()
    } else {
        format!("{}\n{text}\n{:#?}", wrong.join("; "), brief(&served))
    }
}

fn brief(served: &Served) -> Vec<String> {
    let of = |part: &ServiceResource| {
        format!(
            "{:?} {} {:?} {:?} {:?} from {}",
            part.kind,
            part.name,
            part.login.value(),
            part.users,
            part.writes.value(),
            part.sources.words()
        )
    };
    served.parts.iter().map(of).collect()
}

#[test]
#[ignore = "needs slapd and root"]
fn who_reads_and_writes_entries() {
    let folder = tempfile::tempdir().unwrap();
    let mut failures = Vec::new();
    for number in 0..SERVERS {
        let wrong = one(number, &folder.path().join(number.to_string()));
        if !wrong.is_empty() {
            failures.push(format!("--- {number}: {wrong}"));
        }
    }
    println!("{} of {SERVERS} servers alike", SERVERS - failures.len() as u64);
    assert!(failures.is_empty(), "{}", failures.join("\n"));
}
