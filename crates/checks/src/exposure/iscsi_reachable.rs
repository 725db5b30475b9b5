//! iSCSI is reachable by VPN clients or from the Internet.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::secrets::listed;
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, Who, of_kinds};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::ways::cited;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::served::{AuthRequirement, Remark, ServedKind, ServiceResource, Sources};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/iscsi-reachable",
    area: Area::Exposure,
    title: "iSCSI reachable by VPN clients or from the Internet",
    severity: Severity::High,
    why: "iSCSI is designed for a dedicated network: it has no encryption, and one login grants raw access to the whole \
          disk. Client devices have no need to reach it.",
    fix: "Place portals on an isolated storage network without a route to it, and bind each portal to its address there \
          instead of `0.0.0.0`.",
    judged: "Fails for each portal that VPN clients reach; one level higher where the Internet does. Passes where only \
             internal networks reach it. Undetermined where a condition not analysed decides.",
    references: &["RFC 7143, 9", "NIST SP 800-209, 4.2"],
    needs: &[Need::Addresses, Need::Filter, Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    of_kinds(estate, &[ServedKind::Disks])
        .map(|one| Answer::new(one.device, Subject::served(one.served), judge(one)))
        .collect()
}

fn judge(one: ServiceCase<'_>) -> Verdict {
    let (severity, why, reached) = match one.who(&Sources::everybody()) {
        Who::Outside(reached) => (CHECK.severity.raise(), "reachable from the Internet".to_owned(), reached),
        Who::SomeOutside(reached) => {
            (CHECK.severity, "reachable from the Internet by some sources".to_owned(), reached)
        }
        Who::RemoteClients(tunnel, reached) => {
            (CHECK.severity, format!("reachable by clients of {tunnel}"), reached)
        }
        Who::Off(_) | Who::Inside | Who::Relayed(_) => return one.holds(),
    };
    let evidence =
        one.served.endpoints.iter().take(1).map(|place| place.origin).chain(cited(&reached.steps)).collect();
    let (name, verb) = name(one);
    if !reached.certain {
        return Verdict::ask(
            format!("Please state whether {name} {verb} reachable: a condition not analysed decides."),
            evidence,
        );
    }
    // A secret that each named initiator has to prove keeps others off.
    let named = |part: &ServiceResource| {
        part.login.value() == Some(&AuthRequirement::Proof) && part.remark(Remark::AnyInitiator).is_none()
    };
    let mut rating = CHECK.rated_at(severity, why.clone());
    if !one.served.parts.is_empty() && one.served.parts.iter().all(named) {
        rating = rating.lowered("only named initiators with a CHAP secret are accepted");
    }
    Verdict::Fail(Fail {
        rating,
        title: format!("{name} {verb} {why}").into(),
        detail: format!(
            "The portal listens on TCP {}.",
            one.served.endpoints.first().map_or(3260, |place| place.port)
        )
        .into(),
        evidence,
    })
}

/// The targets of a portal, with their verb. An appliance states one service for all of its targets.
fn name(one: ServiceCase<'_>) -> (String, &'static str) {
    if let Some(label) = &one.served.label {
        return (format!("iSCSI target {label}"), "is");
    }
    match one.served.parts.as_slice() {
        [part] => (one.target(part), "is"),
        parts @ [_, _, ..] if parts.iter().all(|part| !part.name.is_empty()) => {
            let names: Vec<&str> = parts.iter().map(|part| part.name.as_str()).collect();
            (format!("iSCSI targets {}", listed(&names)), "are")
        }
        _ => (one.served.name.clone(), "is"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exposure::testing::{Small, on};
    use crate::testing::run;

    #[test]
    fn cases() {
        const TEXT: &str = "{\"storage_objects\": [], \"targets\": [{\"fabric\": \"iscsi\", \"wwn\": \"iqn.x:a\", \"tpgs\": [{\"attributes\": {},\n\"portals\": [{\"ip_address\": \"PLACE\"}]}]}]}";
        let tunnel = (
            "gate/etc/openvpn/server.conf",
            "port 1194\nproto udp\ndev tun0\nserver 10.9.0.0 255.255.255.0\nca ca.pem\ncert s.pem\nkey s.key\ndh none\n",
        );
        let (wide, near) = (TEXT.replace("PLACE", "0.0.0.0"), TEXT.replace("PLACE", "127.0.0.1"));
        const FILE: &str = "gate/etc/saveconfig.json";
        for (text, rules, wanted) in [
            (
                &wide,
                "-A INPUT -p tcp --dport 3260 -j ACCEPT\n",
                "fail critical gate saveconfig.json:2 iptables-save.txt:9",
            ),
            (
                &wide,
                "-A INPUT -i tun0 -p tcp --dport 3260 -j ACCEPT\n",
                "fail high gate saveconfig.json:2 iptables-save.txt:9",
            ),
            (&wide, "-A INPUT -i tun0 -p tcp --dport 3260 -m limit --limit 1/second -j ACCEPT\n", "ask gate"),
            (&wide, "-A INPUT -i eth1 -p tcp --dport 3260 -j ACCEPT\n", "pass gate"),
            (&near, "-A INPUT -p tcp --dport 3260 -j ACCEPT\n", "pass gate"),
        ] {
            let more = [(FILE, text.as_str()), tunnel];
            assert_eq!(on(&CHECK, &Small { rules, more: &more, ..Small::default() }), [wanted], "{rules}");
        }
        // An appliance has one service for all targets: the title has their names.
        let of_sheet = |targets: &str| {
            format!(
                "sheet = \"trevlin-sheet/2\"\ninterfaces = [{{ name = \"lan\", addresses = [{{ net = \"10.9.1.2/24\" }}] }}]\n\
                 [[services]]\nname = \"discs\"\nkind = \"iSCSI\"\nendpoints = [{{ protocol = \"tcp\", port = 3260 }}]\n\
                 parts = [{targets}]\n[[tunnels]]\nname = \"vpn\"\nfamily = \"tls\"\nrole = \"server\"\n\
                 addresses = {{ pools = [{{ network = \"10.9.8.0/24\" }}] }}\n"
            )
        };
        let target = |name: &str| format!("{{ name = \"{name}\", kind = \"target\", login = \"none\" }}");
        let one = of_sheet(&target("silo"));
        run(&CHECK, &[("of an appliance", &[("d/sheet.toml", &one)], &["fail high d sheet.toml:6"])]);
        let two = of_sheet(&format!("{}, {}", target("silo"), target("yard")));
        run(&CHECK, &[("two of an appliance", &[("d/sheet.toml", &two)], &["fail high d sheet.toml:6"])]);
    }
}
