//! All analyses of whole estates, one line for each object, compared with recorded output: the demo before and after correction, and a
//! device for each format.

use crate::addresses::told::sentence;
use crate::authentication::{login_paths, of_tls_based};
use crate::context::Analyses;
use crate::crypto::pairs::ike_pairs;
use crate::exposure::protection::protection_evidence;
use crate::filter_review::remarks::of_rule;
use crate::l2tp;
use crate::logins::{factors_of_management, factors_of_ssh, factors_of_tunnel, logins};
use crate::management::ManagementPort;
use trevlin_estate::testing::{Page, WHOLE, of_folder};

/// The date for which words that name one are read.
const AS_OF: jiff::civil::Date = jiff::civil::date(2026, 11, 25);

fn told(estate: &Analyses) -> String {
    let mut page = Page::of(estate);
    let (shape, plan, internet, inner) =
        (estate.shape(), estate.plan(), estate.internet(), estate.internal());
    page.each("network", &shape.networks);
    page.each("joined", &shape.joined);
    page.each("outside", &shape.outside);
    page.each("clients", &shape.clients);
    page.each("guess", &shape.assumptions);
    page.each("claim", &plan.allocations);
    page.each("overlap", plan.overlaps.iter().map(|one| (one, sentence(estate, plan, one))));
    for (a, b) in ike_pairs(estate) {
        page.line("pair", &((a.device, &a.tunnel.name), (b.device, &b.tunnel.name)));
    }
    for (at, device) in estate.devices.iter().enumerate() {
        page.part(&format!("{} ({})", device.name, device.kind.word()));
        for service in &internet.services[at] {
            let protection = protection_evidence(estate, at, service);
            page.line("service", &(service, service.endpoint(), service.is_local(), protection));
        }
        for (number, tunnel) in device.facts.tunnels.iter().enumerate() {
            page.line(
                "tunnel",
                &(&tunnel.name, login_paths(estate, at, tunnel), of_tls_based(estate, at, tunnel)),
            );
            page.line("factors", &factors_of_tunnel(estate, at, number));
            page.line("L2TP", &l2tp::access(estate, at, tunnel));
            let port = ManagementPort::of(tunnel).map(|one| (one.address(), one.is_socket(), one.is_local()));
            page.line("management", &(port, factors_of_management(estate, at, number)));
        }
        for number in 0..device.facts.ssh_servers.len() {
            page.line("shell", &factors_of_ssh(estate, at, number));
        }
        for review in estate.filter_reviews(at) {
            page.line("filter", &(&review.filter.table, review.filter.families, review.whole));
            let rules: Vec<_> =
                review.each().map(|(id, chain, rule, found)| (id, chain.name.clone(), rule, found)).collect();
            for (id, chain, rule, found) in rules {
                let found = found.map(|(found, _)| found);
                let told = of_rule(estate, &review, id, rule, found, true, AS_OF);
                page.line("rule", &(chain, rule.origin, told, found));
            }
        }
    }
    page.part("reached");
    page.each("reached", &internet.outside.reached);
    page.each("opening", &internet.outside.openings);
    page.each("from callers", inner.clients.iter().map(|one| (&one.reached, &one.openings)));
    page.each(
        "from sites",
        inner.sites.iter().map(|one| (one.joined, one.end, &one.exposure.reached, &one.exposure.openings)),
    );
    page.each("intent", &inner.intents);
    page.each("login", logins(estate));
    page.text()
}

/// Everything of a folder.
fn whole(folder: &str) -> String {
    told(&Analyses::of(of_folder(folder)))
}

#[test]
fn whole_estates_are_as_written_down() {
    for (name, folder) in WHOLE {
        insta::assert_snapshot!(name, whole(folder));
    }
}
