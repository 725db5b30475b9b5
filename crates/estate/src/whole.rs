//! Whole estates, one line for each object, compared with recorded output: the demo before and after correction, and a device for each
//! format.

use crate::evidence::evidence;
use crate::identities::{People, names, root_groups};
use crate::testing::{Page, WHOLE, of_folder};
use crate::words::against;
use trevlin_model::Family;

fn whole(folder: &str) -> String {
    let estate = of_folder(folder);
    let mut page = Page::of(&estate);
    page.each("organisation", &estate.organisation);
    page.each("network", &estate.networks);
    page.each("wanted", [&estate.wanted]);
    page.each("joined", &estate.joined);
    page.each("apart", &estate.apart);
    page.each("intent", &estate.intents);
    page.each("accept", &estate.accepts);
    page.each("answer", &estate.answers);
    page.each("contact", &estate.contacts);
    page.each("left out", &estate.left_out);
    page.each("mixed", estate.mixed());
    page.each("names", names(&estate));
    page.each("baseline", estate.baseline_rows());
    page.each("of nobody", &estate.unused_baselines);
    page.each("own space", crate::assemble::space::own_space(&estate));
    for (at, device) in estate.devices.iter().enumerate() {
        page.part(&format!("{} ({}, {:?})", device.name, device.kind.word(), device.site));
        page.each(
            "export",
            device.exports.iter().map(|id| (estate.export(*id).path(), estate.format_of(*id))),
        );
        page.each("outside", estate.outside(at));
        let facts = &device.facts;
        page.each("interface", &facts.interfaces);
        page.each("route", &facts.routes);
        for family in [Family::V4, Family::V6] {
            let tables = estate.tables(at, family);
            page.each(
                "table",
                tables.iter().map(|one| (family, &one.table, one.state, one.complete, one.origin)),
            );
        }
        let in_force = estate.tables_in_force(at);
        page.each("in force", in_force.iter().map(|one| (&one.table, one.families, one.state, one.origin)));
        page.each("forward to it", estate.forwards_to(at).map(|(from, forward)| (&from.name, forward)));
        for (number, tunnel) in facts.tunnels.iter().enumerate() {
            let (pools, listeners) = (&tunnel.addresses, &tunnel.listeners);
            page.line("tunnel", &(&tunnel.name, tunnel.family, &tunnel.role, listeners, &tunnel.refused));
            page.line("pools", pools);
            page.line("dial-in", &estate.dial_in(at, number));
        }
        page.each("running", facts.running().map(|one| &one.name));
        page.each("administrator", People::of(device).administrators());
        page.each("root group", root_groups(device));
        let people = People::of(device);
        for login in &facts.logins {
            page.line("login", &(&login.user, people.groups_of(&login.user), people.sudo_rule(&login.user)));
        }
        page.each("word", against(&estate, device, &[]));
        let origins: Vec<_> = facts.routes.iter().map(|one| one.origin).collect();
        page.each("quoted", evidence(&estate, &origins));
        page.each("not modelled", &facts.not_analysed);
    }
    page.text()
}

#[test]
fn whole_estates_are_as_written_down() {
    for (name, folder) in WHOLE {
        insta::assert_snapshot!(name, whole(folder));
    }
}
