//! `ip -j -d link show` and `ip -j tunnel show`: interfaces that are ends of tunnels.

use super::{elements, inside_quotes, recognise, settle, whole};
use crate::encapsulation::encapsulation;
use crate::json::Source;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use serde::Deserialize;
use serde_json::value::RawValue;
use trevlin_model::{Export, Tunnel};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "ip-link",
    title: "links and tunnels (ip -j -d link show, ip -j tunnel show)",
    manual: "ip-link(8), ip-tunnel(8)",
    recognise: |export| {
        let tunnels = recognise(export, ["\"ifname\"", "\"mode\":\""], ["ip-tunnel", "ip-tun."]);
        let links = recognise(export, ["\"ifname\"", "\"qdisc\""], ["ip-link", "ip-l."]);
        let addresses = recognise(export, ["\"ifname\"", "\"addr_info\""], ["ip-addr", "ip-a."]);
        if addresses == Recognition::Content { Recognition::No } else { tunnels.max(links) }
    },
    read,
};

/// A link or a tunnel, as far as it matters here.
#[derive(Deserialize)]
pub(super) struct Link<'a> {
    #[serde(borrow)]
    ifname: Option<&'a RawValue>,
    #[serde(default)]
    linkinfo: Option<Info>,
    /// Of `ip tunnel`: the kind, and the ends.
    #[serde(default)]
    mode: Option<String>,
    #[serde(default)]
    local: Option<String>,
    #[serde(default)]
    remote: Option<String>,
}

#[derive(Deserialize)]
struct Info {
    #[serde(default)]
    info_kind: Option<String>,
    #[serde(default)]
    info_data: Option<Data>,
}

#[derive(Deserialize, Default)]
struct Data {
    local: Option<String>,
    local6: Option<String>,
    remote: Option<String>,
    remote6: Option<String>,
    group: Option<String>,
    group6: Option<String>,
}

fn read(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let source = Source::of(export);
    let (links, broken) = elements(&source);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    settle(&source, &mut book, broken);
    for raw in whole(&source, links, &mut book) {
        match serde_json::from_str::<Link<'_>>(raw.get()) {
            Ok(link) => reading.facts.tunnels.extend(tunnel(&source, link)),
            Err(_) => {
                book.not_understood(
                    source.origin(raw.get()),
                    "expected a link as `ip -j -d link show` prints it",
                );
            }
        }
    }
    reading
}

/// The tunnel that a link is an end of.
pub(super) fn tunnel(source: &Source<'_>, link: Link<'_>) -> Option<Tunnel> {
    let raw = link.ifname?;
    let name: String = serde_json::from_str(raw.get()).ok()?;
    let (kind, data) = match (link.linkinfo, link.mode) {
        (Some(info), _) => (info.info_kind?, info.info_data.unwrap_or_default()),
        (None, Some(mode)) => (mode, Data { local: link.local, remote: link.remote, ..Data::default() }),
        (None, None) => return None,
    };
    let local = data.local.or(data.local6);
    let remote = data.remote.or(data.remote6).or(data.group).or(data.group6);
    encapsulation(&kind, &name, local.as_deref(), remote.as_deref(), inside_quotes(source, raw))
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn told(text: &str) -> Vec<String> {
        let export = Export::new(ExportId(0), "d/x.json", text.into());
        assert_eq!((READER.recognise)(&export), Recognition::Content);
        let tunnels = read(&export, &ReadContext::default()).facts.tunnels;
        tunnels.iter().map(|one| format!("{} {}", one.name, one.stated("remote").unwrap().0)).collect()
    }

    #[test]
    fn links_and_tunnels() {
        let links = r#"[{"ifindex":1,"ifname":"lo","flags":["UP"],"qdisc":"noqueue"},
{"ifname":"gre0","qdisc":"noop","linkinfo":{"info_kind":"gre","info_data":{"remote":"any","local":"any","ttl":0}}},
{"ifname":"gre1","qdisc":"noqueue","linkinfo":{"info_kind":"gre","info_data":{"remote":"198.51.100.9","local":"192.0.2.1","ttl":64}}},
{"ifname":"vx0","qdisc":"noqueue","linkinfo":{"info_kind":"vxlan","info_data":{"id":42,"remote6":"2001:db8::9","port":4789}}},
{"ifname":"br0","qdisc":"noqueue","linkinfo":{"info_kind":"bridge","info_data":{"group_addr":"01:80:c2:00:00:00"}}}]"#;
        assert_eq!(told(links), ["GRE gre1 198.51.100.9", "VXLAN vx0 2001:db8::9"]);
        let tunnels = r#"[{"ifname":"tunl0","mode":"any/ip","remote":"any","local":"any"},{"ifname":"t1","mode":"ip/ip","remote":"198.51.100.9","local":"192.0.2.1"}]"#;
        assert_eq!(told(tunnels), ["IP in IP t1 198.51.100.9"]);
    }
}
