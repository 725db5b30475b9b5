//! Estates, written down.
//!
//! `device NAME INTERFACE@NETWORK ADDRESS,… …` is exported, `host` is not; `enters DEVICE:INTERFACE` is the entry point of a host's
//! packets, where needed. `route NAME …` has the syntax of `ip route add`. `rules NAME PROGRAM` begins a list, to the next empty line; each
//! variant of the estate has some of its lines that begin with `?`. `standard NAME` begins one of [`crate::standard`], and `wireguard NAME`
//! a configuration for wg-quick, which is exported in place of the device's routes. The lines of `rules NAME ufw` are commands of ufw,
//! and behind `before` and `nat` rules for its files; of such a device `/etc` alone is exported.

use crate::Rng;
use std::net::IpAddr;

pub(crate) struct Interface {
    pub(crate) name: String,
    pub(crate) network: String,
    pub(crate) addresses: Vec<String>,
}

pub(crate) struct Machine {
    pub(crate) name: String,
    pub(crate) exported: bool,
    pub(crate) interfaces: Vec<Interface>,
    pub(crate) enters: Option<String>,
}

impl Machine {
    pub(crate) fn addresses(&self) -> Vec<IpAddr> {
        let all = self.interfaces.iter().flat_map(|one| &one.addresses);
        all.map(|text| text.split('/').next().unwrap().parse().unwrap()).collect()
    }
}

#[derive(Default)]
pub(crate) struct Estate {
    pub(crate) machines: Vec<Machine>,
    pub(crate) routes: Vec<(String, Vec<String>)>,
    /// Device, program, text.
    pub(crate) rules: Vec<(String, String, String)>,
    /// Devices exported as data of standard models, with the document.
    pub(crate) documents: Vec<(String, String)>,
    /// Devices with a tunnel of WireGuard: name of the tunnel, configuration.
    pub(crate) tunnels: Vec<(String, String, String)>,
    pub(crate) file: Option<String>,
    /// In which form rulesets are exported.
    pub(crate) form: u64,
}

impl Estate {
    pub(crate) fn networks(&self) -> Vec<String> {
        let all = self.machines.iter().flat_map(|one| &one.interfaces).map(|one| one.network.clone());
        let mut all: Vec<String> = all.collect();
        all.sort();
        all.dedup();
        all
    }

    pub(crate) fn parse(text: &str, rng: &mut Rng) -> Self {
        let mut estate = Self::default();
        let mut lines = text.lines().map(str::trim);
        while let Some(line) = lines.next() {
            let words: Vec<&str> = line.split_whitespace().collect();
            match words.as_slice() {
                [] => {}
                ["device" | "host", name, ends @ ..] => estate.machines.push(Machine {
                    name: (*name).to_owned(),
                    exported: words[0] == "device",
                    interfaces: ends
                        .chunks(2)
                        .map(|pair| {
                            let (name, network) = pair[0].split_once('@').unwrap();
                            Interface {
                                name: name.to_owned(),
                                network: network.to_owned(),
                                addresses: pair[1].split(',').map(str::to_owned).collect(),
                            }
                        })
                        .collect(),
                    enters: None,
                }),
                ["enters", place] => estate.machines.last_mut().unwrap().enters = Some((*place).to_owned()),
                ["route", name, rest @ ..] => {
                    estate
                        .routes
                        .push(((*name).to_owned(), rest.iter().map(|word| (*word).to_owned()).collect()));
                }
                ["rules" | "standard" | "wireguard", name, more @ ..] => {
                    let list = lines.by_ref().take_while(|line| !line.is_empty());
                    let kept = list.filter_map(|line| match line.strip_prefix('?') {
                        Some(line) => (rng.below(3) != 0).then_some(line),
                        None => Some(line),
                    });
                    let kept: Vec<&str> = kept.collect();
                    let text: String = kept.iter().map(|line| format!("{line}\n")).collect();
                    match words[0] {
                        "rules" => estate.rules.push(((*name).to_owned(), more[0].to_owned(), text)),
                        "standard" => {
                            let (rules, document) = crate::standard::of(&kept);
                            estate.rules.push(((*name).to_owned(), "nft".to_owned(), rules));
                            estate.documents.push(((*name).to_owned(), document));
                        }
                        _ => estate.tunnels.push(((*name).to_owned(), more[0].to_owned(), text)),
                    }
                }
                ["file"] => {
                    let list = lines.by_ref().take_while(|line| !line.is_empty());
                    estate.file = Some(list.map(|line| format!("{line}\n")).collect());
                }
                _ => panic!("{line}"),
            }
        }
        estate
    }
}

/// The estates.
pub(crate) const ESTATES: [(&str, &str); 17] = [
    ("edge with forwards, inner filter and servers", FORWARDS),
    ("IPv6 open beside IPv4", VERSIONS),
    ("translated twice", TWICE),
    ("two sites joined by plain routing", SITES),
    ("callers whose answers go another way", CALLERS),
    ("answers past a filter that drops what it does not know", ASYMMETRIC),
    ("routers that send to each other", CIRCLE),
    ("a network mapped onto another", MAPPED),
    ("sources checked by the route back", REVERSE),
    ("forwards and verdicts from named maps", MAPS),
    ("routers on links of two addresses", LINKS),
    ("lists that look at TCP flags and source ports", STATELESS),
    ("ports published to a network inside a host", PUBLISHED),
    ("forwards to hosts that were not exported", UNKNOWN_HOSTS),
    ("policies and lists of standard models", STANDARD),
    ("tunnels of WireGuard and their routes", WIREGUARD),
    ("machines with ufw by their files alone", UFW),
];

const UFW: &str = "
device gate out0@wan 203.0.113.1/24,2001:db8:4::1/64 lan0@lan 10.20.4.1/24,fd20:4::1/64 cam0@cams 10.20.6.1/24
device files eth0@lan 10.20.4.20/24,fd20:4::20/64
device till eth0@lan 10.20.4.21/24
host camera eth0@cams 10.20.6.20/24
host desk eth0@lan 10.20.4.77/24,fd20:4::77/64
host outside eth0@wan 203.0.113.9/24,2001:db8:4::9/64
enters gate:out0
route gate default via 203.0.113.9
route gate default via 2001:db8:4::9
route files default via 10.20.4.1
route files default via fd20:4::1
route till default via 10.20.4.1
route desk default via 10.20.4.1
route desk default via fd20:4::1
route camera default via 10.20.6.1
route outside default via 203.0.113.1
route outside default via 2001:db8:4::1

rules gate ufw
nat -A PREROUTING -i out0 -d 203.0.113.1 -p tcp --dport 8080 -j DNAT --to-destination 10.20.4.20:80
nat -A PREROUTING -i out0 -d 203.0.113.1 -p udp --dport 9000 -j DNAT --to-destination 10.20.4.21:9000
nat -A POSTROUTING -s 10.20.4.0/24 -o out0 -j MASQUERADE
before -A ufw-before-forward -i lan0 -o cam0 -p tcp --dport 443 -j ACCEPT
?before -A ufw-before-input -i cam0 -j DROP
default deny incoming
?default reject incoming
default allow outgoing
default deny routed
?default allow routed
allow in on lan0 to any port 22 proto tcp
?deny from 10.20.4.77
allow 443
?allow in on lan0
?route deny in on cam0
route allow in on out0 out on lan0 to 10.20.4.20 port 80 proto tcp
?route allow in on out0 out on lan0 to 10.20.4.21 port 9000 proto udp
route allow in on lan0 out on out0
?route allow in on lan0 out on cam0 to any port 8443 proto tcp
?allow out 53
?deny out 3389/tcp
?route allow in on out0 out on lan0 from any to fd20:4::20 port 443 proto tcp

rules files ufw
default deny incoming
?default deny outgoing
?allow out 443/tcp
allow 80/tcp
?allow proto tcp from 10.20.4.0/24 to any port 443,8443
?allow proto tcp from fd20:4::/64 to any port 22,443
?reject 3389
allow from 10.20.6.0/24 to any port 53 proto udp
?deny from 10.20.4.77 to any port 80

rules till ufw
default allow incoming
deny 3389/tcp
?reject in on eth0 to any port 8000:9000 proto tcp
?deny from 203.0.113.0/24
default allow outgoing
";

const WIREGUARD: &str = "
device harbour out0@wan 203.0.113.1/24 lan0@lan 10.20.4.1/24
device north out0@wan 203.0.113.2/24 lan0@nlan 10.21.4.1/24 cam0@cams 10.21.6.1/24
device files eth0@lan 10.20.4.20/24
device till eth0@nlan 10.21.4.20/24
host camera eth0@cams 10.21.6.20/24
host desk eth0@nlan 10.21.4.77/24
host outside eth0@wan 203.0.113.9/24
enters harbour:out0
route files default via 10.20.4.1
route till default via 10.21.4.1
route desk default via 10.21.4.1
route camera default via 10.21.6.1
route outside default via 203.0.113.1
route outside 10.21.0.0/16 via 203.0.113.2

wireguard harbour wg7
[Interface]
PrivateKey = PRIVATE
ListenPort = 51820
Address = 10.255.7.1/30
[Peer]
PublicKey = PUBLIC:north
Endpoint = 203.0.113.2:51820
AllowedIPs = 10.255.7.2/32
AllowedIPs = 10.21.4.0/24
?AllowedIPs = 10.21.6.0/24

wireguard north wg8
[Interface]
PrivateKey = PRIVATE
ListenPort = 51820
Address = 10.255.7.2/30
?Table = off
[Peer]
PublicKey = PUBLIC:harbour
Endpoint = 203.0.113.1:51820
AllowedIPs = 10.255.7.1/32, 10.20.4.0/24

rules harbour nft
table inet gate {
chain in {
type filter hook input priority 0; policy drop;
ct state established accept
udp dport 51820 accept
?iifname wg7 tcp dport 22 accept
}
chain through {
type filter hook forward priority 0; policy drop;
ct state established accept
?iifname wg7 tcp dport { 443, 8443 } accept
iifname wg7 ip daddr 10.20.4.20 udp dport 53 accept
?iifname lan0 oifname wg7 accept
}
}

rules north iptables
*filter
:INPUT DROP [0:0]
:FORWARD DROP [0:0]
:OUTPUT ACCEPT [0:0]
-A INPUT -m state --state ESTABLISHED -j ACCEPT
-A INPUT -p udp --dport 51820 -j ACCEPT
-A FORWARD -m state --state ESTABLISHED -j ACCEPT
-A FORWARD -i lan0 -o wg8 -j ACCEPT
?-A FORWARD -i cam0 -p udp -j ACCEPT
?-A FORWARD -i wg8 -d 10.21.4.20 -p tcp --dport 80 -j ACCEPT
COMMIT
";

const STANDARD: &str = "
device gate out0@wan 203.0.113.1/24,203.0.113.30/32,203.0.113.31/32,203.0.113.32/32 lan0@lan 10.20.4.1/24 cam0@cams 10.20.6.1/24
device files eth0@lan 10.20.4.20/24
device web eth0@lan 10.20.4.21/24
host desk eth0@lan 10.20.4.77/24
host camera eth0@cams 10.20.6.20/24
host outside eth0@wan 203.0.113.9/24,198.51.100.7/32
enters gate:out0
route gate default via 203.0.113.9
route files default via 10.20.4.1
route web default via 10.20.4.1
route desk default via 10.20.4.1
route camera default via 10.20.6.1
route outside default via 203.0.113.1

standard gate
policy 203.0.113.30 out0 10.20.4.0/25
?policy 203.0.113.30 out0 10.20.6.0/24 tcp
mapping 203.0.113.31 10.20.4.20 tcp 8443 443
?mapping 203.0.113.32 10.20.4.21
?mapping 203.0.113.31 10.20.4.20 udp 53 9000
out0 replies
out0 accept tcp 8443 to 203.0.113.31/32
?out0 accept udp 53 to 203.0.113.31/32
?out0 accept tcp 80 to 203.0.113.32/32
?out0 accept tcp 22 from 198.51.100.0/24
?out0 drop tcp 8080
out0 drop
cam0 replies
cam0 accept tcp 443
?cam0 accept udp 53 to 203.0.113.0/24
cam0 drop
";

const FORWARDS: &str = "
device edge out0@wan 203.0.113.1/24,2001:db8:0:1::1/64 dmz0@dmz 10.20.1.1/24,2001:db8:0:11::1/64
device inner up0@dmz 10.20.1.2/24,2001:db8:0:11::2/64 lan0@lan 10.20.4.1/24,2001:db8:0:14::1/64
device web eth0@dmz 10.20.1.10/24,2001:db8:0:11::10/64
device files eth0@lan 10.20.4.20/24,2001:db8:0:14::20/64
host desk eth0@lan 10.20.4.77/24,2001:db8:0:14::77/64
host outside eth0@wan 203.0.113.9/24,198.51.100.7/32,198.51.100.44/32,2001:db8:0:1::9/64,2001:db8:99::7/128
enters edge:out0
route edge default via 203.0.113.9
route edge default via 2001:db8:0:1::9
route edge 10.20.4.0/24 via 10.20.1.2
route edge 2001:db8:0:14::/64 via 2001:db8:0:11::2
route inner default via 10.20.1.1
route inner default via 2001:db8:0:11::1
route web default via 10.20.1.1
route web 10.20.4.0/24 via 10.20.1.2
route web default via 2001:db8:0:11::1
route files default via 10.20.4.1
route files default via 2001:db8:0:14::1
route desk default via 10.20.4.1
route desk default via 2001:db8:0:14::1
route outside default via 203.0.113.1
route outside default via 2001:db8:0:1::1

rules edge iptables
*nat
:PREROUTING ACCEPT [0:0]
:POSTROUTING ACCEPT [0:0]
-A PREROUTING -i out0 -p tcp --dport 8080 -j DNAT --to-destination 10.20.1.10:80
-A PREROUTING -i out0 -p tcp --dport 8443 -j DNAT --to-destination 10.20.4.20:443
?-A PREROUTING -i out0 -p udp --dport 53 -j DNAT --to-destination 10.20.4.20
-A PREROUTING -i out0 -s 198.51.100.44 -p tcp --dport 22 -j DNAT --to-destination 10.20.4.20
-A PREROUTING -i out0 -p tcp --dport 3389 -j DNAT --to-destination 10.20.4.99
?-A PREROUTING -d 203.0.113.1 -p tcp --dport 9000 -j DNAT --to-destination 10.20.1.10-10.20.1.10:8080
-A POSTROUTING -o out0 -j MASQUERADE
COMMIT
*filter
:INPUT DROP [0:0]
:FORWARD DROP [0:0]
:OUTPUT ACCEPT [0:0]
-A INPUT -m state --state ESTABLISHED -j ACCEPT
-A INPUT -i dmz0 -p tcp --dport 22 -j ACCEPT
-A FORWARD -m state --state ESTABLISHED,RELATED -j ACCEPT
-A FORWARD -i dmz0 -o out0 -j ACCEPT
?-A FORWARD -i out0 -m conntrack --ctstate DNAT -j ACCEPT
-A FORWARD -i out0 -d 10.20.1.10 -p tcp -j ACCEPT
?-A FORWARD -i out0 -d 10.20.4.0/24 -p tcp -m multiport --dports 22,443 -j ACCEPT
COMMIT

rules inner nft
table inet gate {
chain through {
type filter hook forward priority filter; policy drop;
ct state established accept
iifname lan0 accept
?ip daddr 10.20.4.20 tcp dport 443 accept
?ip saddr 198.51.100.44 tcp dport 22 accept
?ip6 daddr 2001:db8:0:14::20 udp dport { 53, 80 } accept
}
}

rules web iptables
*filter
:INPUT DROP [0:0]
:FORWARD ACCEPT [0:0]
:OUTPUT ACCEPT [0:0]
-A INPUT -m state --state ESTABLISHED -j ACCEPT
-A INPUT -p tcp --dport 80 -j ACCEPT
?-A INPUT -s 10.20.0.0/16 -j ACCEPT
COMMIT

rules files nft
table ip own {
chain in {
type filter hook input priority 0; policy drop;
ct state established accept
tcp dport { 443, 8443 } accept
?udp dport 53 accept
?ip saddr 10.20.4.0/24 accept
}
}
";

const VERSIONS: &str = "
device edge out0@wan 203.0.113.1/24,2001:db8:0:1::1/64 lan0@lan 10.20.4.1/24,2001:db8:0:14::1/64
device files eth0@lan 10.20.4.20/24,2001:db8:0:14::20/64
device cams eth0@lan 10.20.4.61/24,2001:db8:0:14::61/64 cam0@cams 10.20.6.1/24,2001:db8:0:16::1/64
host camera eth0@cams 10.20.6.20/24,2001:db8:0:16::20/64
host outside eth0@wan 203.0.113.9/24,2001:db8:0:1::9/64,2001:db8:99::7/128
enters edge:out0
route edge default via 203.0.113.9
route edge default via 2001:db8:0:1::9
route edge 2001:db8:0:16::/64 via 2001:db8:0:14::61
route edge 10.20.6.0/24 via 10.20.4.61
route files default via 10.20.4.1
route files default via 2001:db8:0:14::1
route cams default via 10.20.4.1
route cams default via 2001:db8:0:14::1
route camera default via 10.20.6.1
route camera default via 2001:db8:0:16::1
route outside default via 203.0.113.1
route outside default via 2001:db8:0:1::1

rules edge iptables
*filter
:INPUT DROP [0:0]
:FORWARD DROP [0:0]
:OUTPUT ACCEPT [0:0]
-A FORWARD -m state --state ESTABLISHED -j ACCEPT
-A FORWARD -i lan0 -j ACCEPT
COMMIT

rules edge ip6tables
*filter
:INPUT ACCEPT [0:0]
:FORWARD ACCEPT [0:0]
:OUTPUT ACCEPT [0:0]
-A INPUT -i out0 -p tcp --dport 22 -j DROP
?-A FORWARD -i out0 -d 2001:db8:0:14::20 -p tcp --dport 443 -j REJECT
COMMIT

rules cams nft
table ip6 t {
chain f {
type filter hook forward priority 0; policy accept;
?tcp dport { 22, 80 } drop
}
chain i {
type filter hook input priority 0; policy drop;
meta l4proto ipv6-icmp accept
ct state established accept
?tcp dport 443 accept
}
}
";

const TWICE: &str = "
device provider out0@wan 203.0.113.1/24 cpe0@cpe 192.168.1.1/24
device wall up0@cpe 192.168.1.2/24 lan0@lan 10.20.4.1/24
device files eth0@lan 10.20.4.20/24
host tv eth0@cpe 192.168.1.50/24
host desk eth0@lan 10.20.4.77/24
host outside eth0@wan 203.0.113.9/24,198.51.100.44/32
enters provider:out0
route provider default via 203.0.113.9
route wall default via 192.168.1.1
route files default via 10.20.4.1
route desk default via 10.20.4.1
route tv default via 192.168.1.1
route outside default via 203.0.113.1

rules provider nft
table ip nat {
chain pre {
type nat hook prerouting priority dstnat;
iifname out0 tcp dport 8443 dnat to 192.168.1.2
iifname out0 tcp dport { 80, 8080 } dnat to 192.168.1.2
?iifname out0 udp dport 53 dnat to 192.168.1.2
?iifname out0 tcp dport 9000 dnat to 192.168.1.50:80
}
chain post {
type nat hook postrouting priority srcnat;
oifname out0 masquerade
}
}
table ip filter {
chain through {
type filter hook forward priority 0; policy drop;
ct state established accept
ct status dnat accept
iifname cpe0 oifname out0 accept
}
}

rules wall iptables
*nat
:PREROUTING ACCEPT [0:0]
:POSTROUTING ACCEPT [0:0]
-A PREROUTING -i up0 -p tcp --dport 8443 -j DNAT --to-destination 10.20.4.20:443
?-A PREROUTING -i up0 -p udp --dport 53 -j DNAT --to-destination 10.20.4.20:9000
-A PREROUTING -i up0 -p tcp --dport 80 -j REDIRECT --to-ports 8080
?-A PREROUTING -i lan0 -d 192.168.1.2 -p tcp --dport 8443 -j DNAT --to-destination 10.20.4.20:443
?-A POSTROUTING -s 10.20.4.0/24 -d 10.20.4.20 -j MASQUERADE
-A POSTROUTING -o up0 -j MASQUERADE
COMMIT
*filter
:INPUT DROP [0:0]
:FORWARD DROP [0:0]
:OUTPUT ACCEPT [0:0]
-A INPUT -m state --state ESTABLISHED -j ACCEPT
?-A INPUT -p tcp --dport 8080 -j ACCEPT
-A FORWARD -m state --state ESTABLISHED -j ACCEPT
-A FORWARD -i lan0 -j ACCEPT
?-A FORWARD -d 10.20.4.20 -p tcp --dport 443 -j ACCEPT
?-A FORWARD -d 10.20.4.20 -p udp -j ACCEPT
COMMIT
";

const SITES: &str = "
device harbour out0@wan 203.0.113.1/24 lan0@lan 10.20.4.1/24 link0@link 10.255.0.1/30
device north lan0@nlan 10.21.4.1/24 link0@link 10.255.0.2/30
device files eth0@lan 10.20.4.20/24
device till eth0@nlan 10.21.4.20/24
host desk eth0@nlan 10.21.4.77/24
host outside eth0@wan 203.0.113.9/24,198.51.100.7/32
enters harbour:out0
route harbour default via 203.0.113.9
route harbour 10.21.4.0/24 via 10.255.0.2
route north default via 10.255.0.1
route files default via 10.20.4.1
route till default via 10.21.4.1
route desk default via 10.21.4.1
route outside default via 203.0.113.1

rules harbour nft
table inet t {
chain pre {
type nat hook prerouting priority -100;
iifname out0 tcp dport 8443 dnat ip to 10.21.4.20:443
?iifname out0 udp dport 9000 dnat ip to 10.20.4.20
}
chain post {
type nat hook postrouting priority 100;
oifname out0 masquerade
?iifname out0 oifname link0 masquerade
}
chain f {
type filter hook forward priority 0; policy drop;
ct state { established, related } accept
ct status dnat accept
iifname link0 ip daddr 10.20.4.20 tcp dport { 443, 80 } accept
?iifname lan0 accept
iifname link0 oifname out0 accept
}
}

rules north iptables
*filter
:INPUT ACCEPT [0:0]
:FORWARD DROP [0:0]
:OUTPUT ACCEPT [0:0]
-A FORWARD -m state --state ESTABLISHED -j ACCEPT
-A FORWARD -i lan0 -j ACCEPT
?-A FORWARD -i link0 -s 10.255.0.1 -p tcp -j ACCEPT
?-A FORWARD -i link0 -s 10.20.4.0/24 -p tcp --dport 22 -j ACCEPT
?-A FORWARD -i link0 -s 203.0.113.0/24 -d 10.21.4.20 -p tcp --dport 443 -j ACCEPT
COMMIT

rules till iptables
*filter
:INPUT DROP [0:0]
:FORWARD ACCEPT [0:0]
:OUTPUT ACCEPT [0:0]
-A INPUT -m state --state ESTABLISHED -j ACCEPT
-A INPUT -p tcp -m multiport --dports 22,443 -j ACCEPT
?-A INPUT -s 10.21.4.0/24 -j ACCEPT
COMMIT
";

const CALLERS: &str = "
device edge out0@wan 203.0.113.1/24 lan0@lan 10.20.4.1/24
device gate lan0@lan 10.20.4.11/24 dial0@dial 10.9.0.1/24
device files eth0@lan 10.20.4.20/24
host caller eth0@dial 10.9.0.100/24,10.9.0.200/24
enters gate:dial0
host outside eth0@wan 203.0.113.9/24
enters edge:out0
route edge default via 203.0.113.9
route edge 10.9.0.0/24 via 10.20.4.11
route gate default via 10.20.4.1
route files default via 10.20.4.1
route caller default via 10.9.0.1
route outside default via 203.0.113.1

rules gate nft
table ip t {
chain f {
type filter hook forward priority 0; policy drop;
ct state established accept
ip saddr 10.9.0.100 accept
iifname dial0 tcp dport { 80, 443 } accept
}
chain post {
type nat hook postrouting priority 100;
?ip saddr 10.9.0.200 ip daddr 10.20.4.20 masquerade
}
}

rules edge iptables
*filter
:INPUT DROP [0:0]
:FORWARD ACCEPT [0:0]
:OUTPUT ACCEPT [0:0]
-A INPUT -m state --state ESTABLISHED -j ACCEPT
?-A INPUT -s 10.9.0.0/24 -p tcp --dport 22 -j ACCEPT
?-A FORWARD -i out0 -j DROP
COMMIT
";

const ASYMMETRIC: &str = "
device edge out0@wan 203.0.113.1/24 lan0@lan 10.20.4.1/24
device gate lan0@lan 10.20.4.11/24 dial0@dial 10.9.0.1/24
device files eth0@lan 10.20.4.20/24
host caller eth0@dial 10.9.0.100/24,10.9.0.200/24
enters gate:dial0
host desk eth0@lan 10.20.4.77/24
host outside eth0@wan 203.0.113.9/24
enters edge:out0
route edge default via 203.0.113.9
route edge 10.9.0.0/24 via 10.20.4.11
route gate default via 10.20.4.1
route files default via 10.20.4.1
route desk default via 10.20.4.1
route caller default via 10.9.0.1
route outside default via 203.0.113.1

rules edge iptables
*filter
:INPUT ACCEPT [0:0]
:FORWARD DROP [0:0]
:OUTPUT ACCEPT [0:0]
-A FORWARD -m conntrack --ctstate ESTABLISHED -j ACCEPT
?-A FORWARD -m conntrack --ctstate INVALID -j DROP
-A FORWARD -i lan0 -j ACCEPT
COMMIT

rules gate iptables
*nat
:PREROUTING ACCEPT [0:0]
:POSTROUTING ACCEPT [0:0]
?-A PREROUTING -i dial0 -p tcp --dport 8080 -j DNAT --to-destination 10.20.4.20:80
?-A POSTROUTING -s 10.9.0.200 -o lan0 -j SNAT --to-source 10.20.4.11
COMMIT
*filter
:INPUT ACCEPT [0:0]
:FORWARD ACCEPT [0:0]
:OUTPUT ACCEPT [0:0]
?-A FORWARD -m conntrack --ctstate INVALID -j DROP
COMMIT
";

const CIRCLE: &str = "
device edge out0@wan 203.0.113.1/24 a0@core 10.1.0.1/24
device core a0@core 10.1.0.2/24 b0@back 10.2.0.1/24
device back b0@back 10.2.0.2/24 c0@lab 10.3.0.1/24
host bench eth0@lab 10.3.0.50/24
host outside eth0@wan 203.0.113.9/24,198.51.100.7/32
enters edge:out0
route edge default via 203.0.113.9
route edge 10.0.0.0/8 via 10.1.0.2
route core 10.3.0.0/24 via 10.2.0.2
route core default via 10.1.0.1
route core 10.77.0.0/16 via 10.2.0.2
route back default via 10.2.0.1
route bench default via 10.3.0.1
route outside default via 203.0.113.1

rules edge nft
table ip t {
chain pre {
type nat hook prerouting priority dstnat;
iifname out0 tcp dport 8443 dnat to 10.77.0.9:443
iifname out0 tcp dport 8080 dnat to 10.3.0.50:80
?iifname out0 udp dport 53 dnat to 10.3.0.50
iifname out0 tcp dport 22 dnat to 10.2.0.2
}
chain post {
type nat hook postrouting priority srcnat;
?oifname a0 snat to 10.1.0.1
}
}

rules back iptables
*filter
:INPUT DROP [0:0]
:FORWARD DROP [0:0]
:OUTPUT ACCEPT [0:0]
?-A INPUT -m state --state NEW,ESTABLISHED -p tcp --dport 22 -j ACCEPT
-A INPUT -m state --state ESTABLISHED -j ACCEPT
-A FORWARD -i c0 -j ACCEPT
-A FORWARD -m state --state ESTABLISHED -j ACCEPT
?-A FORWARD -d 10.3.0.50 -p tcp --dport 80 -j ACCEPT
?-A FORWARD -s 10.1.0.1 -j ACCEPT
?-A FORWARD -p udp -j ACCEPT
COMMIT
";

const MAPPED: &str = "
device edge out0@wan 203.0.113.1/24 lan0@lan 10.20.4.1/24
device partner out0@wan 203.0.113.2/24 lan0@plan 10.20.4.1/24
device files eth0@lan 10.20.4.20/24
device desk eth0@plan 10.20.4.30/24
host here eth0@lan 10.20.4.30/24
host there eth0@plan 10.20.4.20/24
host outside eth0@wan 203.0.113.9/24
enters edge:out0
route edge default via 203.0.113.9
route edge 10.99.0.0/24 via 203.0.113.2
route partner default via 203.0.113.1
route files default via 10.20.4.1
route desk default via 10.20.4.1
route here default via 10.20.4.1
route there default via 10.20.4.1
route outside default via 203.0.113.1

file
[device.edge]
outside = [\"out0\"]
site = \"harbour\"
[device.files]
site = \"harbour\"
[device.partner]
outside = [\"out0\"]
site = \"partner\"
[device.desk]
site = \"partner\"

rules edge iptables
*nat
:PREROUTING ACCEPT [0:0]
:POSTROUTING ACCEPT [0:0]
-A PREROUTING -i out0 -d 10.98.0.0/24 -j NETMAP --to 10.20.4.0/24
-A PREROUTING -i out0 -d 203.0.113.1 -p tcp --dport 8443 -j DNAT --to-destination 10.20.4.20:443
-A POSTROUTING -o out0 -j MASQUERADE
COMMIT

rules partner iptables
*nat
:PREROUTING ACCEPT [0:0]
:POSTROUTING ACCEPT [0:0]
-A PREROUTING -d 10.99.0.0/24 -j NETMAP --to 10.20.4.0/24
?-A POSTROUTING -s 10.20.4.0/24 -o out0 -j NETMAP --to 10.99.0.0/24
COMMIT
*filter
:INPUT ACCEPT [0:0]
:FORWARD DROP [0:0]
:OUTPUT ACCEPT [0:0]
-A FORWARD -m state --state ESTABLISHED -j ACCEPT
-A FORWARD -i lan0 -j ACCEPT
?-A FORWARD -d 10.20.4.30 -p tcp --dport 22:443 -j ACCEPT
COMMIT
";

const REVERSE: &str = "
device edge out0@wan 203.0.113.1/24,2001:db8:0:1::1/64 lan0@lan 10.20.4.1/24,2001:db8:0:14::1/64 dmz0@dmz 10.20.6.1/24
device inner up0@lan 10.20.4.2/24,2001:db8:0:14::2/64 deep0@deep 10.20.9.1/24
device files eth0@lan 10.20.4.20/24,2001:db8:0:14::20/64
host desk eth0@deep 10.20.9.30/24,10.77.0.9/32
enters inner:deep0
host page eth0@dmz 10.20.6.10/24,10.78.0.9/32
enters edge:dmz0
host outside eth0@wan 203.0.113.9/24,198.51.100.7/32,2001:db8:0:1::9/64
enters edge:out0
route edge default via 203.0.113.9
route edge default via 2001:db8:0:1::9
route edge 10.20.9.0/24 via 10.20.4.2
route inner default via 10.20.4.1
route files default via 10.20.4.1
route files 10.20.9.0/24 via 10.20.4.2
route files default via 2001:db8:0:14::1
route desk default via 10.20.9.1
route page default via 10.20.6.1
route outside default via 203.0.113.1
route outside default via 2001:db8:0:1::1

rules edge nft
table inet edge {
 chain early {
  type filter hook prerouting priority raw; policy accept;
  iifname != lo fib saddr . iif oif missing drop
 }
 chain forward {
  type filter hook forward priority filter; policy drop;
  ct state established,related accept
  iifname lan0 accept
  ?iifname dmz0 oifname lan0 tcp dport { 22, 443 } accept
  ?ip saddr 198.51.100.7 tcp dport 8080-9000 accept
  ip6 daddr 2001:db8:0:14::20 tcp dport 443 accept
 }
}

rules inner iptables
*raw
:PREROUTING ACCEPT [0:0]
?-A PREROUTING -m rpfilter --invert -j DROP
COMMIT
*filter
:INPUT ACCEPT [0:0]
:FORWARD DROP [0:0]
:OUTPUT ACCEPT [0:0]
-A FORWARD -m state --state ESTABLISHED -j ACCEPT
-A FORWARD -i deep0 -j ACCEPT
-A FORWARD -p tcp --dport 22:443 -j ACCEPT
COMMIT
";

const MAPS: &str = "
device edge out0@wan 203.0.113.1/24,203.0.113.4/24 dmz0@dmz 10.20.1.1/24 lan0@lan 10.20.4.1/24
device web eth0@dmz 10.20.1.10/24
device files eth0@lan 10.20.4.20/24
host desk eth0@lan 10.20.4.77/24
host outside eth0@wan 203.0.113.9/24,198.51.100.7/32,198.51.100.44/32
enters edge:out0
route edge default via 203.0.113.9
route web default via 10.20.1.1
route files default via 10.20.4.1
route desk default via 10.20.4.1
route outside default via 203.0.113.1

rules edge nft
table ip edge {
 map published {
  type inet_service : ipv4_addr . inet_service
  elements = { 443 : 10.20.1.10 . 8443, 3389 : 10.20.4.20 . 3389,
  22 : 10.20.4.20 . 22 }
 }
 map second {
  type ipv4_addr . inet_service : ipv4_addr
  elements = { 203.0.113.4 . 80 : 10.20.1.10, 203.0.113.4 . 8080 : 10.20.4.77 }
 }
 set agreed {
  type ifname . ipv4_addr . inet_proto . inet_service
  flags interval
  elements = { lan0 . 10.20.1.10 . tcp . 443, dmz0 . 10.20.4.0/24 . tcp . 9000, lan0 . 10.20.1.0/24 . udp . 53 }
 }
 map ways {
  type ifname : verdict
  elements = { out0 : jump from_out, dmz0 : jump from_dmz }
 }
 chain prerouting {
  type nat hook prerouting priority dstnat; policy accept;
  iifname out0 ip daddr 203.0.113.1 dnat ip to tcp dport map @published
  ?iifname out0 dnat ip to ip daddr . tcp dport map @second
 }
 chain from_out {
  ?ip saddr 198.51.100.44 tcp dport 22 accept
  ct status dnat tcp dport { 80, 3389, 8443 } accept
 }
 chain from_dmz {
  tcp dport 22 reject
 }
 chain forward {
  type filter hook forward priority filter; policy drop;
  ct state established,related accept
  iifname vmap @ways
  iifname . ip daddr . meta l4proto . th dport @agreed accept
  ?iifname lan0 oifname out0 accept
 }
}
";

const LINKS: &str = "
device north out0@wan 203.0.113.1/24 link0@first 10.90.0.0/31 lan0@lan 10.20.4.1/24
device middle up0@first 10.90.0.1/31 down0@second 10.90.0.5/30
device south up0@second 10.90.0.6/30 lan0@far 10.20.8.1/24
device files eth0@lan 10.20.4.20/24
host desk eth0@far 10.20.8.30/24
host outside eth0@wan 203.0.113.9/24,198.51.100.7/32
enters north:out0
route north default via 203.0.113.9
route north 10.20.8.0/24 via 10.90.0.1
route north 10.90.0.4/30 via 10.90.0.1
route middle default via 10.90.0.0
route middle 10.20.8.0/24 via 10.90.0.6
route south default via 10.90.0.5
route files default via 10.20.4.1
route desk default via 10.20.8.1
route outside default via 203.0.113.1

rules north iptables
*nat
:PREROUTING ACCEPT [0:0]
:POSTROUTING ACCEPT [0:0]
?-A PREROUTING -i out0 -p tcp --dport 3389 -j DNAT --to-destination 10.20.8.30
-A POSTROUTING -o out0 -j MASQUERADE
COMMIT
*filter
:INPUT DROP [0:0]
:FORWARD DROP [0:0]
:OUTPUT ACCEPT [0:0]
-A INPUT -m state --state ESTABLISHED -j ACCEPT
?-A INPUT -i link0 -p tcp --dport 22 -j ACCEPT
-A FORWARD -m state --state ESTABLISHED -j ACCEPT
-A FORWARD -i link0 -d 10.20.4.0/24 -p tcp --dport 22:443 -j ACCEPT
-A FORWARD -i lan0 -j ACCEPT
?-A FORWARD -i out0 -d 10.20.8.30 -p tcp --dport 3389 -j ACCEPT
COMMIT

rules middle nft
table inet f {
 chain forward {
  type filter hook forward priority 0; policy drop;
  ct state established accept
  ?iifname up0 tcp dport { 22, 3389, 8080 } accept
  iifname down0 ip daddr 10.20.4.0/24 accept
 }
}
";

const STATELESS: &str = "
device gate out0@wan 203.0.113.1/24 lan0@lan 10.20.4.1/24
device files eth0@lan 10.20.4.20/24
host desk eth0@lan 10.20.4.77/24
host outside eth0@wan 203.0.113.9/24,198.51.100.7/32
enters gate:out0
route gate default via 203.0.113.9
route files default via 10.20.4.1
route desk default via 10.20.4.1
route outside default via 203.0.113.1

rules gate iptables
*raw
:PREROUTING ACCEPT [0:0]
:OUTPUT ACCEPT [0:0]
-A PREROUTING -j CT --notrack
-A OUTPUT -j CT --notrack
COMMIT
*filter
:INPUT DROP [0:0]
:FORWARD DROP [0:0]
:OUTPUT ACCEPT [0:0]
-A INPUT -p tcp --tcp-flags ACK ACK -j ACCEPT
?-A INPUT -i lan0 -p tcp --dport 22 -j ACCEPT
-A FORWARD -i out0 -p tcp --tcp-flags ACK ACK -j ACCEPT
?-A FORWARD -i out0 -p udp --sport 53 -j ACCEPT
-A FORWARD -i out0 -d 10.20.4.20 -p tcp --dport 443 -j ACCEPT
?-A FORWARD -i lan0 -d 203.0.113.9 -p tcp ! --syn -j ACCEPT
-A FORWARD -i lan0 -s 10.20.4.20 -p tcp --sport 443 -j ACCEPT
?-A FORWARD -i lan0 -p tcp --dport 80:8080 -j ACCEPT
-A FORWARD -i lan0 -p udp -j ACCEPT
COMMIT
";

const PUBLISHED: &str = "
device hostel eth0@lan 10.20.4.30/24 br0@cage 172.30.0.1/16
device edge out0@wan 203.0.113.1/24 lan0@lan 10.20.4.1/24
host shop eth0@cage 172.30.0.3/16
host store eth0@cage 172.30.0.4/16
host desk eth0@lan 10.20.4.77/24
host outside eth0@wan 203.0.113.9/24
enters edge:out0
route edge default via 203.0.113.9
route hostel default via 10.20.4.1
route shop default via 172.30.0.1
route store default via 172.30.0.1
route desk default via 10.20.4.1
route outside default via 203.0.113.1

rules hostel iptables
*nat
:PREROUTING ACCEPT [0:0]
:OUTPUT ACCEPT [0:0]
:POSTROUTING ACCEPT [0:0]
:CAGE - [0:0]
-A PREROUTING -m addrtype --dst-type LOCAL -j CAGE
-A OUTPUT ! -d 127.0.0.0/8 -m addrtype --dst-type LOCAL -j CAGE
-A POSTROUTING -s 172.30.0.0/16 ! -o br0 -j MASQUERADE
-A CAGE ! -i br0 -p tcp --dport 8080 -j DNAT --to-destination 172.30.0.3:80
?-A CAGE ! -i br0 -p tcp --dport 3389 -j DNAT --to-destination 172.30.0.4:22
COMMIT
*filter
:INPUT DROP [0:0]
:FORWARD DROP [0:0]
:OUTPUT ACCEPT [0:0]
:CAGE - [0:0]
-A INPUT -m state --state ESTABLISHED -j ACCEPT
?-A INPUT -p tcp --dport 22 -j ACCEPT
-A FORWARD -o br0 -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT
-A FORWARD -o br0 -j CAGE
-A FORWARD -i br0 ! -o br0 -j ACCEPT
-A FORWARD -m state --state ESTABLISHED -j ACCEPT
-A CAGE -d 172.30.0.3/32 ! -i br0 -o br0 -p tcp --dport 80 -j ACCEPT
?-A CAGE -d 172.30.0.4/32 ! -i br0 -o br0 -p tcp --dport 22 -j ACCEPT
COMMIT

rules edge nft
table ip f {
 chain pre {
  type nat hook prerouting priority -100; policy accept;
  iifname out0 tcp dport { 8080, 3389 } dnat to 10.20.4.30
 }
 chain post {
  type nat hook postrouting priority 100; policy accept;
  oifname out0 masquerade
 }
 chain forward {
  type filter hook forward priority 0; policy drop;
  ct state established accept
  iifname lan0 accept
  ?ct status dnat tcp dport 8080 accept
  ?ip daddr 10.20.4.30 tcp dport 3389 accept
 }
}
";

const UNKNOWN_HOSTS: &str = "
device edge out0@wan 203.0.113.1/24,2001:db8:0:1::1/64 lan0@lan 10.20.4.1/24,2001:db8:0:14::1/64 guest0@guests 10.20.90.1/24
host pump eth0@lan 10.20.4.51/24,2001:db8:0:14::51/64
host camera eth0@lan 10.20.4.60/24,2001:db8:0:14::60/64
host visitor eth0@guests 10.20.90.7/24
host outside eth0@wan 203.0.113.9/24,198.51.100.7/32,2001:db8:0:1::9/64
enters edge:out0
route edge default via 203.0.113.9
route edge default via 2001:db8:0:1::9
route pump default via 10.20.4.1
route pump default via 2001:db8:0:14::1
route camera default via 10.20.4.1
route camera default via 2001:db8:0:14::1
route visitor default via 10.20.90.1
route outside default via 203.0.113.1
route outside default via 2001:db8:0:1::1

rules edge nft
table inet f {
 chain pre {
  type nat hook prerouting priority dstnat; policy accept;
  iifname out0 tcp dport 3389 dnat ip to 10.20.4.51
  ?iifname out0 tcp dport 8443 dnat ip to 10.20.4.60:443
 }
 chain post {
  type nat hook postrouting priority srcnat; policy accept;
  oifname out0 ip saddr 10.20.0.0/16 masquerade
 }
 chain forward {
  type filter hook forward priority filter; policy drop;
  ct state established,related accept
  iifname lan0 accept
  ct status dnat accept
  ?iifname out0 ip6 daddr 2001:db8:0:14::/64 tcp dport { 22, 443 } accept
  ?iifname guest0 ip daddr 10.20.4.60 tcp dport 80 accept
  iifname guest0 oifname out0 accept
 }
}
";
