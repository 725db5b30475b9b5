//! How an audit's time and memory grow with what one device may be sent as: files in which a few lines multiply with many others, or
//! that name each other over and over.
//!
//! Long because each line of the table is one way in which a file may be made large, and all of them are looked at together.

use anyhow::{Context, Result, bail};
use std::fmt::Write as _;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// Files of one device: path and text.
type Files = Vec<(String, String)>;

/// A way in which exports grow: its name, and files that come to about so many bytes.
pub struct Way {
    /// What multiplies with what.
    pub name: String,
    make: Box<dyn Fn(usize) -> Files>,
}

/// What one way came to.
#[derive(Debug)]
pub struct Measured {
    /// Its name.
    pub name: String,
    /// Bytes of each size.
    pub bytes: Vec<usize>,
    /// Seconds of each size.
    pub seconds: Vec<f64>,
    /// The most memory of the largest, in MiB.
    pub memory: u64,
}

impl Measured {
    /// How time grows with size: 1 where twice as much takes twice as long. What takes no time to speak of does not grow.
    #[must_use]
    pub fn exponent(&self) -> f64 {
        /// Times below this are those of starting a program.
        const FLOOR: f64 = 0.15;
        let (Some(first), Some(last)) = (self.seconds.first(), self.seconds.last()) else { return 0.0 };
        let sizes = self.bytes.last().copied().unwrap_or(1) as f64
            / self.bytes.first().copied().unwrap_or(1).max(1) as f64;
        (last.max(FLOOR) / first.max(FLOOR)).ln() / sizes.max(2.0).ln()
    }

    /// What is too much about it; nothing where all holds.
    #[must_use]
    pub fn fault(&self, seconds: f64, memory: u64) -> Option<String> {
        let last = self.seconds.last().copied().unwrap_or_default();
        if self.exponent() > 1.3 {
            return Some(format!("grows with the power {:.2}", self.exponent()));
        }
        if last > seconds {
            return Some(format!("takes {last:.1} s"));
        }
        (self.memory > memory).then(|| format!("takes {} MiB", self.memory))
    }
}

/// Measures one way at each size.
///
/// # Errors
/// Where files cannot be written or the program cannot be run.
pub fn measure(
    way: &Way,
    program: &Path,
    sizes: &[usize],
    folder: &Path,
    most: Duration,
) -> Result<Measured> {
    let mut measured = Measured { name: way.name.clone(), bytes: Vec::new(), seconds: Vec::new(), memory: 0 };
    for size in sizes {
        let at = folder.join("estate");
        if at.exists() {
            fs::remove_dir_all(&at)?;
        }
        let mut bytes = 0;
        for (path, text) in (way.make)(*size) {
            let file = at.join("d").join(path);
            fs::create_dir_all(file.parent().context("a file lies in a folder")?)?;
            bytes += text.len();
            fs::write(file, text)?;
        }
        let (seconds, memory) = run(program, &at, most)?;
        measured.bytes.push(bytes);
        measured.seconds.push(seconds);
        measured.memory = memory;
        if seconds >= most.as_secs_f64() {
            break;
        }
    }
    Ok(measured)
}

/// Audits a folder: seconds, and the most memory in MiB. What takes longer than `most` is stopped.
#[allow(clippy::disallowed_methods, reason = "a measurement reads the clock")]
fn run(program: &Path, folder: &Path, most: Duration) -> Result<(f64, u64)> {
    let begun = Instant::now();
    let mut child = Command::new(program)
        .args(["audit", "-q", "--format", "json"])
        .arg(folder)
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .with_context(|| format!("{} cannot be run", program.display()))?;
    let status = format!("/proc/{}/status", child.id());
    let mut memory = 0;
    loop {
        if let Some(ended) = child.try_wait()? {
            if ended.code().is_none() {
                bail!("the program was ended by a signal: {ended}");
            }
            return Ok((begun.elapsed().as_secs_f64(), memory));
        }
        let told = fs::read_to_string(&status).unwrap_or_default();
        let line = told.lines().find_map(|line| line.strip_prefix("VmHWM:"));
        let kib = line.and_then(|rest| rest.split_whitespace().next()?.parse::<u64>().ok()).unwrap_or(0);
        memory = memory.max(kib / 1024);
        // More than any export is worth: the machine is needed by others.
        if begun.elapsed() > most || memory > 4096 {
            child.kill()?;
            child.wait()?;
            return Ok((most.as_secs_f64(), memory));
        }
        std::thread::sleep(Duration::from_millis(2));
    }
}

/// So many bytes of lines, each made from its number.
fn lines(bytes: usize, line: impl Fn(usize) -> String) -> String {
    let mut out = String::with_capacity(bytes + 64);
    for number in 0.. {
        if out.len() >= bytes {
            break;
        }
        out.push_str(&line(number));
    }
    out
}

fn address(number: usize) -> String {
    format!("10.{}.{}.{}", number >> 16 & 255, number >> 8 & 255, number & 255)
}

/// A list of addresses with something between them.
fn addresses(bytes: usize, between: &str) -> String {
    lines(bytes, |number| format!("{}{between}", address(number))).trim_end_matches(between).to_owned()
}

/// Every way: each format's case over and over, and what multiplies.
///
/// # Errors
/// Where the cases of the readers cannot be read.
pub fn ways(cases: &Path) -> Result<Vec<Way>> {
    let mut all: Vec<Way> = Vec::new();
    let mut formats: Vec<PathBuf> =
        fs::read_dir(cases)?.map(|entry| Ok(entry?.path())).collect::<Result<_>>()?;
    formats.sort();
    for format in formats {
        let name = format.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let mut found = Vec::new();
        below(&format, &format, &mut found)?;
        let Some((path, text)) = found.into_iter().max_by_key(|(_, text)| text.len()) else { continue };
        all.push(Way {
            name: format!("{name}: its case over and over"),
            make: Box::new(move |bytes| vec![(path.clone(), text.repeat(1 + bytes / text.len().max(1)))]),
        });
    }
    let mut add =
        |name: &str, make: Box<dyn Fn(usize) -> Files>| all.push(Way { name: name.to_owned(), make });
    products(&mut add);
    includes(&mut add);
    filters(&mut add);
    Ok(all)
}

type Add<'a> = dyn FnMut(&str, Box<dyn Fn(usize) -> Files>) + 'a;

/// One file of a device.
fn file(path: &str, text: String) -> Files {
    vec![(path.to_owned(), text)]
}

fn products(add: &mut Add<'_>) {
    add(
        "sudoers: an alias of many, in many rules",
        Box::new(|b| {
            let names = lines(b / 2, |n| format!("user{n},"));
            file(
                "etc/sudoers",
                format!(
                    "User_Alias A = {}\n{}",
                    names.trim_end_matches(','),
                    lines(b / 2, |n| format!("A host{n} = (ALL) ALL\n"))
                ),
            )
        }),
    );
    add(
        "sudoers: command aliases in each other",
        Box::new(|b| {
            file(
                "etc/sudoers",
                lines(b, |n| match n {
                    0 => "Cmnd_Alias C0 = /bin/a, /bin/b\n".into(),
                    n => format!("Cmnd_Alias C{n} = C{p}, C{p}\n", p = n - 1),
                }) + "ann ALL = C1\n",
            )
        }),
    );
    add(
        "nginx: what all servers inherit, in many places",
        Box::new(|b| {
            let list = lines(b / 2, |n| format!("  allow {};\n", address(n)));
            let places = lines(b / 2, |n| format!("  location /p{n} {{ root /srv; }}\n"));
            file(
                "etc/nginx/nginx.conf",
                format!("http {{\n{list}  deny all;\n server {{ listen 80;\n{places} }}\n}}\n"),
            )
        }),
    );
    add(
        "nginx: a list of ciphers, for many servers",
        Box::new(|b| {
            let list = lines(b / 2, |n| format!("CIPHER-{n}:"));
            let servers = lines(b / 2, |n| format!("server {{ listen 443 ssl; server_name s{n}; }}\n"));
            file("etc/nginx/nginx.conf", format!("http {{\nssl_ciphers {list}AES256-SHA;\n{servers}}}\n"))
        }),
    );
    add(
        "nginx: all in one line",
        Box::new(|b| {
            let servers = lines(b, |n| {
                format!("server {{ listen {}; server_name s{n}; autoindex on; }} ", 1 + n % 65_000)
            });
            file("etc/nginx/nginx.conf", format!("http {{ {servers} }}\n"))
        }),
    );
    add(
        "apache: places and addresses",
        Box::new(|b| {
            let hosts = addresses(b / 2, " ");
            let places = lines(b / 2, |n| format!("<Location /p{n}>\n</Location>\n"));
            file(
                "etc/apache2/apache2.conf",
                format!("Listen 80\n<Directory />\nRequire ip {hosts}\n</Directory>\n{places}"),
            )
        }),
    );
    add(
        "apache: places for many hosts",
        Box::new(|b| {
            let places = lines(b / 2, |n| format!("<Location /p{n}>\nRequire all granted\n</Location>\n"));
            let hosts = lines(b / 2, |n| format!("<VirtualHost *:80>\nServerName h{n}\n</VirtualHost>\n"));
            file("etc/apache2/apache2.conf", format!("Listen 80\n{places}{hosts}"))
        }),
    );
    add(
        "samba: hosts for all shares",
        Box::new(|b| {
            let hosts = addresses(b / 2, " ");
            file(
                "etc/samba/smb.conf",
                format!(
                    "[global]\nhosts allow = {hosts}\n{}",
                    lines(b / 2, |n| format!("[s{n}]\npath = /s{n}\nguest ok = yes\n"))
                ),
            )
        }),
    );
    add(
        "samba: shares that copy others",
        Box::new(|b| {
            file(
                "etc/samba/smb.conf",
                format!(
                    "[s0]\npath = /s\nvalid users = {}\n{}",
                    lines(b / 2, |n| format!("u{n} ")),
                    lines(b / 2, |n| format!("[t{n}]\ncopy = s0\n"))
                ),
            )
        }),
    );
    add(
        "rsync: addresses for all modules",
        Box::new(|b| {
            let hosts = addresses(b / 2, " ");
            file(
                "etc/rsyncd.conf",
                format!("hosts allow = {hosts}\n{}", lines(b / 2, |n| format!("[m{n}]\npath = /m{n}\n"))),
            )
        }),
    );
    add(
        "named: a list in many zones",
        Box::new(|b| {
            let list = addresses(b / 2, "; ");
            let zones = lines(b / 2, |n| {
                format!("zone \"z{n}.example\" {{ type master; file \"z\"; allow-transfer {{ a; }}; }};\n")
            });
            file(
                "etc/bind/named.conf",
                format!("acl a {{ {list}; }};\noptions {{ recursion yes; }};\n{zones}"),
            )
        }),
    );
    add(
        "named: lists in each other",
        Box::new(|b| {
            file(
                "etc/bind/named.conf",
                lines(b, |n| match n {
                    0 => "acl a0 { 10.0.0.0/8; };\n".into(),
                    n => format!("acl a{n} {{ a{p}; a{p}; }};\n", p = n - 1),
                }) + "options { allow-recursion { a9; }; };\n",
            )
        }),
    );
    add(
        "unbound: addresses and names",
        Box::new(|b| {
            file(
                "etc/unbound/unbound.conf",
                format!(
                    "server:\n interface: 0.0.0.0\n{}",
                    lines(b, |n| format!(" access-control: {}/32 allow\n", address(n)))
                ),
            )
        }),
    );
    add(
        "snmpd: views, groups and who",
        Box::new(|b| {
            let third = b / 3;
            let views = lines(third, |n| format!("view all included .1.3.{n}\n"));
            let groups = lines(third, |n| format!("group g{} v2c n{n}\n", n % 50));
            let access = lines(third, |n| format!("access g{} \"\" any noauth exact all all none\n", n % 50));
            file(
                "etc/snmp/snmpd.conf",
                format!(
                    "{}{views}{groups}{access}",
                    lines(third, |n| format!("com2sec n{n} default c{n}\n"))
                ),
            )
        }),
    );
    add(
        "sshd: conditions, many of them",
        Box::new(|b| {
            file(
                "etc/ssh/sshd_config",
                format!(
                    "Port 22\n{}",
                    lines(b, |n| format!(
                        "Match User u{n} Address {}/32\n PasswordAuthentication yes\n",
                        address(n)
                    ))
                ),
            )
        }),
    );
    add(
        "sshd: a list of users, and conditions",
        Box::new(|b| {
            let names = lines(b / 2, |n| format!("u{n} "));
            file(
                "etc/ssh/sshd_config",
                format!(
                    "Port 22\nAllowUsers {names}\n{}",
                    lines(b / 2, |n| format!("Match User u{n}\n PermitRootLogin yes\n"))
                ),
            )
        }),
    );
    add(
        "ssh client: patterns and settings",
        Box::new(|b| {
            file(
                "home/ann/.ssh/config",
                lines(b, |n| format!("Host h{n} *.h{n}\n StrictHostKeyChecking no\n User u{n}\n")),
            )
        }),
    );
    add(
        "accounts: people and groups",
        Box::new(|b| {
            vec![
                (
                    "etc/passwd".into(),
                    lines(b / 3, |n| format!("u{n}:x:{}:{}::/home/u{n}:/bin/sh\n", 1000 + n, 1000 + n)),
                ),
                ("etc/group".into(), lines(b / 3, |n| format!("g{n}:x:{}:u{n},u{}\n", 1000 + n, n / 2))),
                (
                    "etc/shadow".into(),
                    lines(b / 3, |n| format!("u{n}:$1$aa$bbbbbbbbbbbbbbbbbbbbbb:19000:0:99999:7:::\n")),
                ),
            ]
        }),
    );
    add(
        "accounts: one group of all",
        Box::new(|b| {
            vec![
                (
                    "etc/passwd".into(),
                    lines(b / 3, |n| format!("u{n}:x:{}:100::/home/u{n}:/bin/sh\n", 1000 + n)),
                ),
                (
                    "etc/group".into(),
                    format!("sudo:x:27:{}\nall:x:100:\n", lines(b / 3, |n| format!("u{n},"))),
                ),
                ("etc/sudoers".into(), lines(b / 3, |n| format!("%sudo h{n} = (ALL) NOPASSWD: ALL\n"))),
            ]
        }),
    );
    add(
        "ipsec.conf: what connections take from others",
        Box::new(|b| {
            file(
                "etc/ipsec.conf",
                format!(
                    "conn base\n left=198.51.100.1\n rightsubnet={}\n{}",
                    addresses(b / 2, ","),
                    lines(b / 2, |n| format!(
                        "conn c{n}\n also=base\n right=192.0.2.{}\n auto=add\n",
                        n % 250
                    ))
                ),
            )
        }),
    );
    add(
        "ipsec.conf: each takes from the one before",
        Box::new(|b| {
            file(
                "etc/ipsec.conf",
                lines(b, |n| match n {
                    0 => "conn c0\n left=198.51.100.1\n right=192.0.2.1\n auto=add\n".into(),
                    n => format!("conn c{n}\n also=c{}\n", n - 1),
                }),
            )
        }),
    );
    add(
        "swanctl: pools and connections",
        Box::new(|b| {
            let pools = lines(b / 2, |n| format!(" p{n} {{ addrs = {}/32 }}\n", address(n)));
            let all = lines(b / 8, |n| format!("p{n},"));
            let connections = lines(b / 3, |n| {
                format!(
                    " c{n} {{ pools = {}\n children {{ x {{ }} }} }}\n",
                    if n == 0 { all.as_str() } else { "p1" }
                )
            });
            file(
                "etc/swanctl/swanctl.conf",
                format!("connections {{\n{connections}}}\npools {{\n{pools}}}\n"),
            )
        }),
    );
    add(
        "ipsec.secrets: many for many",
        Box::new(|b| {
            file(
                "etc/ipsec.secrets",
                lines(b, |n| format!("@a{n} @b{} : PSK \"quayside{}\"\n", n / 2, n % 7)),
            )
        }),
    );
    add(
        "firewalld: zones and policies",
        Box::new(|b| {
            let mut files: Files = Vec::new();
            let zones = (b / 2 / 120).max(1);
            for n in 0..zones {
                files.push((
                    format!("etc/firewalld/zones/z{n}.xml"),
                    format!("<zone>\n <interface name=\"e{n}\"/>\n <service name=\"ssh\"/>\n</zone>\n"),
                ));
                files.push((format!("etc/firewalld/policies/p{n}.xml"), format!("<policy target=\"ACCEPT\">\n <ingress-zone name=\"ANY\"/>\n <egress-zone name=\"z{n}\"/>\n</policy>\n")));
            }
            files
        }),
    );
    add(
        "xl2tpd: many sections",
        Box::new(|b| {
            file(
                "etc/xl2tpd/xl2tpd.conf",
                format!(
                    "[global]\nport = 1701\n{}",
                    lines(b, |n| format!(
                        "[lns l{n}]\nip range = {}-{}\nlocal ip = 10.255.0.1\n",
                        address(n * 4),
                        address(n * 4 + 3)
                    ))
                ),
            )
        }),
    );
    add(
        "pptpd: a list of ranges",
        Box::new(|b| file("etc/pptpd.conf", format!("localip 10.255.0.1\nremoteip {}\n", addresses(b, ",")))),
    );
    add(
        "many small files of one device",
        Box::new(|b| {
            (0..(b / 128).max(1)).map(|n| (format!("etc/nginx/sites-enabled/s{n}"), format!("server {{ listen {}; server_name s{n}; location / {{ root /srv/{n}; autoindex on; }} }}\n", 1 + n % 65_000))).collect()
        }),
    );
    add(
        "many small files of several formats",
        Box::new(|b| {
            (0..(b / 96).max(1))
                .map(|n| match n % 3 {
                    0 => (
                        format!("etc/wireguard/w{n}.conf"),
                        format!("[Interface]\nPrivateKey = x{n}\nAddress = {}/24\n", address(n)),
                    ),
                    1 => (format!("etc/ssh/sshd_config.d/{n}.conf"), format!("AllowUsers u{n}\n")),
                    _ => (
                        format!("etc/openvpn/ccd/c{n}"),
                        format!("ifconfig-push {} 255.255.255.0\n", address(n)),
                    ),
                })
                .collect()
        }),
    );
    add(
        "openvpn: routes and clients",
        Box::new(|b| {
            let mut files = file(
                "etc/openvpn/server.conf",
                format!(
                    "port 1194\ndev tun\nserver 10.200.0.0 255.255.0.0\nclient-config-dir ccd\nca ca.pem\n{}",
                    lines(b / 2, |n| format!("push \"route {} 255.255.255.255\"\n", address(n)))
                ),
            );
            files.extend((0..b / 2 / 48).map(|n| {
                (
                    format!("etc/openvpn/ccd/c{n}"),
                    format!("ifconfig-push 10.200.{}.{} 255.255.0.0\n", n >> 8 & 255, n & 255),
                )
            }));
            files
        }),
    );
    add(
        "wireguard: peers and networks",
        Box::new(|b| {
            file(
                "etc/wireguard/wg0.conf",
                format!(
                    "[Interface]\nPrivateKey = aaaa\nAddress = 10.0.0.1/8\n{}",
                    lines(b, |n| format!(
                        "# p{n}\n[Peer]\nPublicKey = k{n}\nAllowedIPs = {}/32\n",
                        address(n)
                    ))
                ),
            )
        }),
    );
    add(
        "wireguard: one peer of many networks",
        Box::new(|b| {
            file(
                "etc/wireguard/wg0.conf",
                format!(
                    "[Interface]\nPrivateKey = aaaa\nAddress = 10.0.0.1/8\n[Peer]\nPublicKey = k\nAllowedIPs = {}\n",
                    addresses(b, "/32, ")
                ),
            )
        }),
    );
    add(
        "dnsmasq: ranges and hosts",
        Box::new(|b| {
            file(
                "etc/dnsmasq.conf",
                format!(
                    "interface=eth1\ndhcp-range=10.0.0.2,10.255.0.1\n{}",
                    lines(b, |n| format!(
                        "dhcp-host=02:00:5e:{:02x}:{:02x}:{:02x},{}\n",
                        n >> 16 & 255,
                        n >> 8 & 255,
                        n & 255,
                        address(n)
                    ))
                ),
            )
        }),
    );
    add(
        "dhcpd: networks and pools",
        Box::new(|b| {
            file(
                "etc/dhcp/dhcpd.conf",
                lines(b, |n| {
                    format!(
                        "subnet 10.{}.{}.0 netmask 255.255.255.0 {{ range 10.{}.{}.9 10.{}.{}.99; }}\n",
                        n >> 8 & 255,
                        n & 255,
                        n >> 8 & 255,
                        n & 255,
                        n >> 8 & 255,
                        n & 255
                    )
                }),
            )
        }),
    );
    add(
        "dhcpd: one in another",
        Box::new(|b| {
            file("etc/dhcp/dhcpd.conf", format!("{}{}\n", "group { ".repeat(b / 10), "} ".repeat(b / 10)))
        }),
    );
    add(
        "kea: networks in one line",
        Box::new(|b| {
            let all = lines(b, |n| {
                format!(
                    "{{\"subnet\": \"10.{}.{}.0/24\", \"pools\": [{{\"pool\": \"10.{}.{}.9 - 10.{}.{}.90\"}}]}},",
                    n >> 8 & 255,
                    n & 255,
                    n >> 8 & 255,
                    n & 255,
                    n >> 8 & 255,
                    n & 255
                )
            });
            file(
                "etc/kea/kea-dhcp4.conf",
                format!(
                    "{{\"Dhcp4\": {{\"interfaces-config\": {{\"interfaces\": [\"*\"]}}, \"subnet4\": [{}]}}}}\n",
                    all.trim_end_matches(',')
                ),
            )
        }),
    );
    add(
        "exports: paths and clients",
        Box::new(|b| {
            file("etc/exports", lines(b, |n| format!("/s{n} {}(rw,no_root_squash) *(ro)\n", address(n))))
        }),
    );
    add(
        "exports: one path for many",
        Box::new(|b| file("etc/exports", format!("/s {}\n", lines(b, |n| format!("{}(rw) ", address(n)))))),
    );
    add(
        "databases: who from where",
        Box::new(|b| {
            vec![
                (
                    "etc/postgresql/15/main/postgresql.conf".into(),
                    "listen_addresses = '*'\nport = 5432\n".into(),
                ),
                (
                    "etc/postgresql/15/main/pg_hba.conf".into(),
                    lines(b, |n| format!("host db{n} u{n} {}/32 md5\n", address(n))),
                ),
            ]
        }),
    );
    add(
        "mosquitto: listeners and bridges",
        Box::new(|b| {
            file(
                "etc/mosquitto/mosquitto.conf",
                format!(
                    "per_listener_settings true\n{}",
                    lines(b, |n| format!("listener {}\nallow_anonymous true\n", 1 + n % 65_000))
                ),
            )
        }),
    );
    add(
        "iscsi: targets and who",
        Box::new(|b| {
            let acls = lines(b, |n| {
                format!(
                    "{{\"node_wwn\": \"iqn.2026-01.example:i{n}\", \"chap_userid\": \"u{n}\", \"chap_password\": \"secret{n}\"}},"
                )
            });
            file(
                "etc/target/saveconfig.json",
                format!(
                    "{{\"storage_objects\": [], \"targets\": [{{\"fabric\": \"iscsi\", \"wwn\": \"iqn.2026-01.example:t\", \"tpgs\": [{{\"attributes\": {{\"authentication\": 1}}, \"portals\": [{{\"ip_address\": \"0.0.0.0\", \"port\": 3260}}], \"node_acls\": [{}]}}]}}]}}\n",
                    acls.trim_end_matches(',')
                ),
            )
        }),
    );
    add(
        "radius: clients and people",
        Box::new(|b| {
            vec![
                (
                    "etc/freeradius/3.0/clients.conf".into(),
                    lines(b / 2, |n| {
                        format!("client c{n} {{\n ipaddr = {}\n secret = quay{n}\n}}\n", address(n))
                    }),
                ),
                (
                    "etc/freeradius/3.0/users".into(),
                    lines(b / 2, |n| {
                        format!(
                            "u{n} Cleartext-Password := \"quay{n}\"\n Framed-IP-Address = {}\n",
                            address(n)
                        )
                    }),
                ),
            ]
        }),
    );
    add(
        "keys: many of one account",
        Box::new(|b| {
            file(
                "home/ann/.ssh/authorized_keys",
                lines(b, |n| {
                    format!("from=\"{}\" ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAI{n:040} k{n}\n", address(n))
                }),
            )
        }),
    );
    add(
        "ppp: callers and addresses",
        Box::new(|b| file("etc/ppp/chap-secrets", lines(b, |n| format!("u{n} * quay{n} {}\n", address(n))))),
    );
    add(
        "haproxy: entrances and where they lead",
        Box::new(|b| {
            file(
                "etc/haproxy/haproxy.cfg",
                lines(b, |n| {
                    format!(
                        "frontend f{n}\n bind :{}\n default_backend b{n}\nbackend b{n}\n server s 10.0.0.9:80\n",
                        1 + n % 65_000
                    )
                }),
            )
        }),
    );
    add(
        "stunnel: services",
        Box::new(|b| {
            file(
                "etc/stunnel/stunnel.conf",
                lines(b, |n| format!("[s{n}]\naccept = {}\nconnect = 10.0.0.9:80\n", 1 + n % 65_000)),
            )
        }),
    );
    add(
        "interfaces and routes",
        Box::new(|b| {
            let interfaces = lines(b / 2, |n| {
                format!(
                    "{{\"ifname\":\"e{n}\",\"addr_info\":[{{\"local\":\"10.{}.{}.1\",\"prefixlen\":24}}]}},\n",
                    n >> 8 & 255,
                    n & 255
                )
            });
            let routes = lines(b / 2, |n| {
                format!("{{\"dst\":\"{}\",\"gateway\":\"10.0.0.9\",\"flags\":[]}},\n", address(n))
            });
            vec![
                ("ip-addr.json".into(), format!("[{}]\n", interfaces.trim_end_matches(",\n"))),
                ("ip-route.json".into(), format!("[{}]\n", routes.trim_end_matches(",\n"))),
            ]
        }),
    );
    add(
        "sockets and units",
        Box::new(|b| {
            vec![
                (
                    "ss.txt".into(),
                    format!(
                        "Netid State Recv-Q Send-Q Local Address:Port Peer Address:Port Process\n{}",
                        lines(b / 2, |n| format!(
                            "tcp LISTEN 0 128 0.0.0.0:{} 0.0.0.0:* users:((\"p{n}\",pid={n},fd=3))\n",
                            1 + n % 65_000
                        ))
                    ),
                ),
                (
                    "systemctl-list-unit-files.txt".into(),
                    format!(
                        "UNIT FILE STATE PRESET\n{}",
                        lines(b / 2, |n| format!("u{n}.service enabled enabled\n"))
                    ),
                ),
            ]
        }),
    );
    add(
        "yaml: what stands for more and more",
        Box::new(|b| {
            file(
                "etc/netplan/01.yaml",
                format!(
                    "network:\n  version: 2\n  x: &x0 [a, a]\n{}",
                    lines(b.min(4_000), |n| format!("  y{n}: &x{} [*x{n}, *x{n}]\n", n + 1))
                ),
            )
        }),
    );
    add(
        "xml: one in another",
        Box::new(|b| {
            file(
                "etc/firewalld/zones/a.xml",
                format!("<zone>{}{}</zone>\n", "<rule>".repeat(b / 14), "</rule>".repeat(b / 14)),
            )
        }),
    );
    add(
        "json: one in another",
        Box::new(|b| file("ip-addr.json", format!("{}{}\n", "[".repeat(b / 2), "]".repeat(b / 2)))),
    );
    add(
        "a sheet: entries of each kind",
        Box::new(|b| {
            file(
                "sheet.toml",
                format!(
                    "sheet = \"trevlin-sheet/1\"\ndevice = \"d\"\n{}",
                    lines(b, |n| format!(
                        "[[logins]]\nuser = \"u{n}\"\nservice = \"s\"\nsecret = \"quay{n}\"\n"
                    ))
                ),
            )
        }),
    );
    add(
        "a sheet: rules",
        Box::new(|b| {
            file(
                "sheet.toml",
                format!(
                    "sheet = \"trevlin-sheet/1\"\ndevice = \"d\"\n[rule-list]\nthrough = \"deny\"\nto-device = \"deny\"\n{}",
                    lines(b, |n| format!(
                        "[[rules]]\nfrom = \"any\"\nto = \"any\"\nsources = [\"{}\"]\naction = \"allow\"\n",
                        address(n)
                    ))
                ),
            )
        }),
    );
    add(
        "uci: zones that forward to each other",
        Box::new(|b| {
            let zones = (b / 2 / 120).max(1);
            let all = (0..zones).fold(String::from("package firewall\n\nconfig defaults\n\toption input 'REJECT'\n"), |mut all, n| {
            let _ = writeln!(all, "config zone\n\toption name 'z{n}'\n\tlist device 'e{n}'\n\toption input 'ACCEPT'\n\toption forward 'ACCEPT'");
            all
        });
            file(
                "uci-export.txt",
                all + &lines(b / 2, |n| {
                    format!(
                        "config forwarding\n\toption src 'z{}'\n\toption dest 'z{}'\n",
                        n % zones,
                        (n / zones + n) % zones
                    )
                }),
            )
        }),
    );
    add(
        "uci: rules for any zone",
        Box::new(|b| {
            file(
                "uci-export.txt",
                format!(
                    "package firewall\n\n{}{}",
                    lines(b / 2, |n| format!("config zone\n\toption name 'z{n}'\n\tlist device 'e{n}'\n")),
                    lines(b / 2, |n| format!(
                        "config rule\n\toption src '*'\n\toption dest '*'\n\toption dest_port '{}'\n\toption target 'ACCEPT'\n",
                        1 + n % 65_000
                    ))
                ),
            )
        }),
    );
    add(
        "pam: stacks that include each other",
        Box::new(|b| {
            (0..(b / 96).max(2))
                .map(|n| {
                    (
                        format!("etc/pam.d/s{n}"),
                        format!("auth required pam_unix.so\n@include s{}\n@include s{}\n", n + 1, n + 1),
                    )
                })
                .collect()
        }),
    );
    add(
        "secrets: the same in one long line",
        Box::new(|b| {
            file(
                "data.json",
                format!(
                    "{{\"ietf-system:system\": {{\"authentication\": {{\"user\": [{}]}}}}}}\n",
                    lines(b, |n| format!("{{\"name\": \"u{n}\", \"password\": \"$0$quay{n}\"}},"))
                        .trim_end_matches(',')
                ),
            )
        }),
    );
}

/// Files that read in others over and over.
fn includes(add: &mut Add<'_>) {
    for (name, main, line, other, inner) in [
        (
            "nginx",
            "etc/nginx/nginx.conf",
            "include x.conf;\n",
            "etc/nginx/x.conf",
            "# a line of it\nserver { listen 80; }\n",
        ),
        (
            "apache",
            "etc/apache2/apache2.conf",
            "Include x.conf\n",
            "etc/apache2/x.conf",
            "<Location /a>\nRequire all granted\n</Location>\n",
        ),
        ("sudoers", "etc/sudoers", "@include /etc/sudoers.x\n", "etc/sudoers.x", "ann ALL = (ALL) ALL\n"),
        (
            "unbound",
            "etc/unbound/unbound.conf",
            "include: x.conf\n",
            "etc/unbound/x.conf",
            "server:\n access-control: 10.0.0.0/8 allow\n",
        ),
        (
            "named",
            "etc/bind/named.conf",
            "include \"x.conf\";\n",
            "etc/bind/x.conf",
            "zone \"a.example\" { type master; file \"a\"; };\n",
        ),
        (
            "redis",
            "etc/redis/redis.conf",
            "include /etc/redis/x.conf\n",
            "etc/redis/x.conf",
            "user a on >quay7 ~* +@all\n",
        ),
        ("sshd", "etc/ssh/sshd_config", "Include /etc/ssh/x.conf\n", "etc/ssh/x.conf", "AllowUsers a b c\n"),
        (
            "chrony",
            "etc/chrony/chrony.conf",
            "include /etc/chrony/x.conf\n",
            "etc/chrony/x.conf",
            "server 10.0.0.1\nallow 10.0.0.0/8\n",
        ),
        (
            "nftables",
            "etc/nftables.conf",
            "include \"./x.nft\"\n",
            "etc/x.nft",
            "table inet f {\n chain c {\n ip saddr 10.0.0.1 accept\n }\n}\n",
        ),
        (
            "ipsec.conf",
            "etc/ipsec.conf",
            "include /etc/x.conf\n",
            "etc/x.conf",
            "conn a\n left=198.51.100.1\n",
        ),
        (
            "swanctl",
            "etc/swanctl/swanctl.conf",
            "include x.conf\n",
            "etc/swanctl/x.conf",
            "connections { a { children { b { } } } }\n",
        ),
        (
            "snmpd",
            "etc/snmp/snmpd.conf",
            "includeFile x.conf\n",
            "etc/snmp/x.conf",
            "rocommunity quay 10.0.0.0/8\n",
        ),
        ("ssh client", "home/ann/.ssh/config", "Include x\n", "home/ann/.ssh/x", "Host a\n User b\n"),
        (
            "samba",
            "etc/samba/smb.conf",
            "include = /etc/samba/x.conf\n",
            "etc/samba/x.conf",
            "[s]\npath = /s\nguest ok = yes\n",
        ),
        (
            "proftpd",
            "etc/proftpd/proftpd.conf",
            "Include /etc/proftpd/x.conf\n",
            "etc/proftpd/x.conf",
            "<Directory /a>\nAllowAll\n</Directory>\n",
        ),
        (
            "ppp",
            "etc/ppp/options.pptpd",
            "file /etc/ppp/x\n",
            "etc/ppp/x",
            "require-mschap-v2\nms-dns 10.0.0.1\n",
        ),
        (
            "postgresql",
            "etc/postgresql/15/main/postgresql.conf",
            "include 'x.conf'\n",
            "etc/postgresql/15/main/x.conf",
            "listen_addresses = '*'\nport = 5432\n",
        ),
        (
            "mariadb",
            "etc/mysql/mariadb.cnf",
            "!include /etc/mysql/x.cnf\n",
            "etc/mysql/x.cnf",
            "[mysqld]\nbind-address = 0.0.0.0\n",
        ),
        (
            "ntp",
            "etc/ntp.conf",
            "includefile /etc/ntp.x\n",
            "etc/ntp.x",
            "server 10.0.0.1\nrestrict 10.0.0.0\n",
        ),
        (
            "rsyslog",
            "etc/rsyslog.conf",
            "$IncludeConfig /etc/rsyslog.x\n",
            "etc/rsyslog.x",
            "*.* @10.0.0.1\n",
        ),
        (
            "openvpn",
            "etc/openvpn/server.conf",
            "config x.conf\n",
            "etc/openvpn/x.conf",
            "push \"route 10.0.0.0 255.0.0.0\"\n",
        ),
    ] {
        add(
            &format!("{name}: one file read in over and over"),
            Box::new(move |b| {
                vec![
                    (main.to_owned(), line.repeat(1 + b / 2 / line.len())),
                    (other.to_owned(), inner.repeat(1 + b / 2 / inner.len())),
                ]
            }),
        );
    }
}

/// Packet filters whose lines multiply.
fn filters(add: &mut Add<'_>) {
    let head = "*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\n";
    add(
        "iptables: chains that jump twice to the next",
        Box::new(move |b| {
            let chains = (b / 60).max(2);
            let names = (0..chains).fold(String::new(), |mut all, n| {
                let _ = writeln!(all, ":c{n} - [0:0]");
                all
            });
            let jumps = (0..chains - 1).fold(String::new(), |mut all, n| {
                let _ =
                    writeln!(all, "-A c{n} -s 10.0.0.0/9 -j c{m}\n-A c{n} -d 10.0.0.0/9 -j c{m}", m = n + 1);
                all
            });
            file("iptables-save.txt", format!("{head}{names}-A INPUT -j c0\n{jumps}COMMIT\n"))
        }),
    );
    add(
        "iptables: several such tables on several devices' files",
        Box::new(move |b| {
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
        }),
    );
    add(
        "iptables: a list in many rules",
        Box::new(move |b| {
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
        }),
    );
    add(
        "iptables: rules that differ in every field",
        Box::new(move |b| {
            file(
                "iptables-save.txt",
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
                ),
            )
        }),
    );
    add(
        "iptables: conditions that may or may not hold",
        Box::new(move |b| {
            file(
                "iptables-save.txt",
                format!(
                    "{head}{}COMMIT\n",
                    lines(b, |n| format!(
                        "-A INPUT -m unheard --of {n} -s {} -j {}\n",
                        address(n),
                        if n % 2 == 0 { "ACCEPT" } else { "DROP" }
                    ))
                ),
            )
        }),
    );
    add(
        "iptables: forwards of many ports",
        Box::new(move |b| {
            file(
                "iptables-save.txt",
                format!(
                    "*nat\n:PREROUTING ACCEPT [0:0]\n{}COMMIT\n{head}-A FORWARD -j ACCEPT\nCOMMIT\n",
                    lines(b, |n| format!(
                        "-A PREROUTING -i eth0 -p tcp -m tcp --dport {} -j DNAT --to-destination {}\n",
                        1 + n % 65_000,
                        address(n)
                    ))
                ),
            )
        }),
    );
    let nft = |rules: String| {
        format!(
            "table inet f {{\n chain i {{\n  type filter hook input priority 0; policy drop;\n{rules} }}\n}}\n"
        )
    };
    add(
        "nft: names of twice as much each",
        Box::new(move |b| {
            file(
                "etc/nftables.conf",
                format!(
                    "define a0 = {{ 10.0.0.1, 10.0.0.2 }}\n{}{}",
                    lines(b, |n| format!("define a{} = {{ $a{n}, $a{n} }}\n", n + 1)),
                    nft("  ip saddr $a9 accept\n".into())
                ),
            )
        }),
    );
    add(
        "nft: a name in many rules",
        Box::new(move |b| {
            file(
                "etc/nftables.conf",
                format!(
                    "define a = {{ {} }}\n{}",
                    addresses(b / 2, ", "),
                    nft(lines(b / 2, |n| format!("  ip saddr $a tcp dport {} accept\n", 1 + n % 65_000)))
                ),
            )
        }),
    );
    add(
        "nft: a list in many rules",
        Box::new(move |b| {
            file(
                "etc/nftables.conf",
                format!(
                    "table inet f {{\n set a {{ type ipv4_addr; elements = {{ {} }}; }}\n chain i {{\n  type filter hook input priority 0; policy drop;\n{} }}\n}}\n",
                    addresses(b / 2, ", "),
                    lines(b / 2, |n| format!("  ip saddr @a tcp dport {} accept\n", 1 + n % 65_000))
                ),
            )
        }),
    );
    add(
        "nft: chains that jump twice to the next",
        Box::new(move |b| {
            let chains = (b / 80).max(2);
            let all = (0..chains).rev().fold(String::new(), |mut all, n| { let _ = writeln!(all, " chain c{n} {{\n  ip saddr 10.{}.0.0/16 jump c{m}\n  ip daddr 10.{}.0.0/16 jump c{m}\n }}", n % 250, n % 249, m = n + 1); all });
            file(
                "etc/nftables.conf",
                format!(
                    "table inet f {{\n{all} chain c{chains} {{ accept\n }}\n chain i {{\n  type filter hook input priority 0; policy drop;\n  jump c0\n }}\n}}\n"
                ),
            )
        }),
    );
    add(
        "nft: a map of many forwards",
        Box::new(|b| {
            file(
                "etc/nftables.conf",
                format!(
                    "table ip n {{\n chain p {{\n  type nat hook prerouting priority dstnat;\n  dnat to tcp dport map {{ {} }}\n }}\n}}\n",
                    lines(b, |n| format!("{} : 10.0.{}.{}, ", 1 + n % 65_000, n >> 8 & 255, n & 255))
                        .trim_end_matches(", ")
                ),
            )
        }),
    );
    add(
        "nft: many verdicts in one map",
        Box::new(move |b| {
            file(
                "etc/nftables.conf",
                nft(format!(
                    "  ip saddr vmap {{ {} }}\n",
                    lines(b, |n| format!("{} : accept, ", address(n))).trim_end_matches(", ")
                )),
            )
        }),
    );
    add(
        "nft: all in one line",
        Box::new(|b| {
            file(
                "etc/nftables.conf",
                format!(
                    "table inet f {{ chain i {{ type filter hook input priority 0; policy drop; {} }} }}\n",
                    lines(b, |n| format!("tcp dport {} accept; ", 1 + n % 65_000))
                ),
            )
        }),
    );
}

fn below(at: &Path, top: &Path, found: &mut Files) -> Result<()> {
    for entry in fs::read_dir(at)? {
        let path = entry?.path();
        if path.is_dir() && !path.is_symlink() {
            below(&path, top, found)?;
        } else if let Ok(text) = fs::read_to_string(&path) {
            found.push((path.strip_prefix(top)?.to_string_lossy().into_owned(), text));
        }
    }
    Ok(())
}
