//! Files in which a few lines expand to many: lists that name each other, inherited blocks, jumps that double. Reading ends, with
//! proportionate time and memory.

#![no_main]

use trevlin_fuzz::estate_of;

/// Lines of a format that include others: `%` is replaced by their own number, `&` by an earlier one.
const KINDS: [(&str, &str, &str, &str); 8] = [
    (
        "gate/etc/nftables.conf",
        "define v0 = { 10.0.0.1 }\n",
        "define v% = { $v&, $v& }\n",
        "table inet f { chain c { type filter hook input priority 0; ip saddr $v& accept } }\n",
    ),
    ("gate/etc/sudoers", "User_Alias A0 = ann\n", "User_Alias A% = A&, A&\n", "A& ALL=(ALL) ALL\n"),
    (
        "gate/etc/bind/named.conf",
        "acl a0 { 10.0.0.1; };\n",
        "acl a% { a&; a&; };\n",
        "zone \"z%\" { type master; file \"z\"; allow-transfer { a&; }; };\n",
    ),
    (
        "gate/iptables-save.txt",
        "*filter\n:INPUT DROP [0:0]\n:c0 - [0:0]\n",
        ":c% - [0:0]\n-A c% -s 10.0.0.1/32 -j c&\n-A c% -j c&\n",
        "-A INPUT -p tcp --dport 2% -j c&\n",
    ),
    (
        "gate/etc/ipsec.conf",
        "conn c0\n\tkeyexchange=ikev2\n",
        "conn c%\n\talso=c&\n\talso=c&\n",
        "conn t%\n\tauto=add\n\talso=c&\n",
    ),
    (
        "gate/etc/samba/smb.conf",
        "[global]\nhosts allow = 10.0.0.1\n[s0]\npath = /s\n",
        "[s%]\ncopy = s&\nhosts allow = 10.0.0.&\n",
        "[t%]\ncopy = s&\n",
    ),
    (
        "gate/etc/snmp/snmpd.conf",
        "view v0 included .1\n",
        "view v% included .1.&\n",
        "group g% v2c s&\naccess g& \"\" any noauth exact v& none none\n",
    ),
    (
        "gate/etc/nginx/nginx.conf",
        "http {\n",
        "allow 10.0.0.&;\n",
        "server { listen 8%; location /% { allow 10.&.0.0/16; deny all; } }\n",
    ),
];

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    let [which, rest @ ..] = data else { return };
    let (path, first, line, last) = KINDS[usize::from(*which) % KINDS.len()];
    let mut text = first.to_owned();
    for (number, byte) in (1usize..).zip(rest) {
        let (shape, before) =
            if byte & 0x80 == 0 { (line, number - 1) } else { (last, usize::from(byte & 0x7f) % number) };
        text += &shape.replace('%', &number.to_string()).replace('&', &before.to_string());
    }
    if path.ends_with("iptables-save.txt") {
        text += "COMMIT\n";
    }
    if path.ends_with("nginx.conf") {
        text += "}\n";
    }
    let _ = estate_of(&[(path, &text)]);
});
