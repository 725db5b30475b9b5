//! `saveconfig.json`: iSCSI targets of the kernel's target subsystem (targetcli(8); LIO).

use crate::json::{self, Json};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving;
use trevlin_model::secret::SecretKind;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Remark, Requirement, Served, ServedKind, ServiceResource,
    TransportSecurity,
};
use trevlin_model::{Export, Facts, LineClass, Origin, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "iscsi-target",
    title: "iSCSI target (LIO)",
    manual: "targetcli(8)",
    recognise: |export| {
        let text = export.text();
        let tells = text.trim_start().starts_with('{')
            && text.contains("\"storage_objects\"")
            && text.contains("\"targets\"");
        if tells {
            Recognition::Content
        } else if export.file_name() == "saveconfig.json" {
            Recognition::Name
        } else {
            Recognition::No
        }
    },
    read,
};

fn read(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let whole = export.origin(0..export.text().len().max(1));
    let (top, broken) = json::parse(export);
    book.class(whole, LineClass::Understood);
    if let Some(broken) = broken {
        book.not_understood(
            export.origin(broken.offset..export.text().len()),
            broken.words("the target refuses the file"),
        );
    }
    top.tell_cuts(&mut book);
    for target in top.list("targets") {
        let fabric = target.text("fabric").unwrap_or_default();
        if fabric != "iscsi" {
            book.not_understood(
                target.origin,
                format!("targets of fabric `{fabric}` are not judged; please review this target by hand"),
            );
            continue;
        }
        let name = target.text("wwn").unwrap_or_else(|| "unnamed".into());
        for group in target.list("tpgs") {
            let off = group.get("enable").is_some_and(|one| one.is_false());
            // The missing part may be the login requirement.
            if !off && group.is_whole() {
                let served = served(export, &name, group, &mut reading.facts);
                reading.facts.served.push(served);
            }
        }
    }
    reading
}

fn served(export: &Export, name: &str, group: &Json<'_>, facts: &mut Facts) -> Served {
    let heading = |one: &Json<'_>| Origin { end: one.origin.start + 1, ..one.origin };
    let origin = heading(group);
    let title = format!("iSCSI target {name}");
    let mut served =
        Served::new(ServedKind::Disks, "iSCSI target", title, &["target", "rtslib-fb-targetctl"], origin)
            .labelled(name);
    for portal in group.list("portals") {
        let port = portal.number("port").and_then(|port| u16::try_from(port).ok()).unwrap_or(3260);
        let at = Endpoint::everywhere(Protocol::TCP, port, TransportSecurity::Plain, heading(portal));
        let address = portal.text("ip_address").and_then(|text| text.trim_matches(['[', ']']).parse().ok());
        served.endpoints.push(match address {
            Some(address) => at.at(address),
            None => at,
        });
    }
    let attribute = |name: &str| {
        let one = group.get("attributes")?.get(name)?;
        Some((one.number_of()?, one.origin))
    };
    let asks = attribute("authentication").unwrap_or((0, origin));
    let anybody = attribute("generate_node_acls").filter(|one| one.0 == 1);
    let protected = attribute("demo_mode_write_protect").is_none_or(|one| one.0 == 1);
    let disks: Vec<String> = group.list("luns").iter().filter_map(|one| one.text("storage_object")).collect();
    let mut part = |name: &str, holder: &Json<'_>, line: Origin| {
        let mut part = ServiceResource::new(PartKind::Target, name, line);
        part.path = Some(disks.join(", ")).filter(|all| !all.is_empty());
        let secret = |field: &str, owner: &str, facts: &mut Facts| {
            let value = holder.get(field)?;
            serving::hold(export, facts, value.slice, SecretKind::ServicePassword, owner)
        };
        let own = secret("chap_password", name, facts);
        let mutual = secret("chap_mutual_password", &format!("{name} (of the target)"), facts);
        part.login = match (asks.0 == 1, &own) {
            (true, Some(held)) => Setting::Stated { value: AuthRequirement::Proof, origin: held.origin },
            // Where logins are required and none is defined, no client is accepted.
            (true, None) => Setting::Stated { value: AuthRequirement::Refused, origin: asks.1 },
            (false, _) => Setting::Stated { value: AuthRequirement::Nothing, origin: asks.1 },
        };
        if let (true, Some(held), None) = (asks.0 == 1, &own, &mutual) {
            part.remarks.push((Remark::OneSided, held.origin));
        }
        part.encryption = Some(Setting::default_of(Requirement::Never, "iSCSI target", "RFC 7143, 9"));
        part
    };
    for initiator in group.list("node_acls") {
        let name = initiator.text("node_wwn").unwrap_or_default();
        let mut one = part(&name, initiator, heading(initiator));
        one.users = vec![name];
        let all_read = !initiator.list("mapped_luns").is_empty()
            && initiator
                .list("mapped_luns")
                .iter()
                .all(|lun| lun.get("write_protect").is_some_and(|one| one.is_true()));
        one.writes = Setting::Stated { value: !all_read, origin: heading(initiator) };
        served.parts.push(one);
    }
    if let Some((_, line)) = anybody {
        let mut one = part("any initiator", group, line);
        one.remarks.push((Remark::AnyInitiator, line));
        one.writes = Setting::Stated { value: !protected, origin: line };
        served.parts.push(one);
    }
    served
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn of(attributes: &str, acls: &str) -> Reading {
        let text = format!(
            r#"{{"storage_objects": [], "targets": [{{"fabric": "iscsi", "wwn": "iqn.2026-01.example:a", "tpgs": [
{{"enable": true, "attributes": {{{attributes}}}, "portals": [{{"ip_address": "0.0.0.0", "port": 3260}}],
"luns": [{{"storage_object": "/backstores/block/a"}}], "node_acls": [{acls}]}}]}}]}}"#
        );
        let export = Export::new(ExportId(0), "d/etc/rtslib-fb-target/saveconfig.json", text);
        assert_eq!((READER.recognise)(&export), Recognition::Content);
        read(&export, &ReadContext::default())
    }

    #[test]
    fn targets() {
        const ANN: &str = r#"{"node_wwn": "iqn.2026-01.example:ann", "chap_userid": "ann", "chap_password": "Sesame-99-Sesame"}"#;
        for (attributes, acls, wanted) in [
            ("\"authentication\": 1", ANN, &["iqn.2026-01.example:ann Proof true OneSided"][..]),
            ("\"authentication\": 0", ANN, &["iqn.2026-01.example:ann Nothing true"]),
            ("\"authentication\": 1", r#"{"node_wwn": "iqn.x"}"#, &["iqn.x Refused true"]),
            (
                "\"authentication\": 0, \"generate_node_acls\": 1, \"demo_mode_write_protect\": 0",
                "",
                &["any initiator Nothing true AnyInitiator"],
            ),
            ("\"generate_node_acls\": 1", "", &["any initiator Nothing false AnyInitiator"]),
            ("\"generate_node_acls\": 0", "", &[]),
        ] {
            let reading = of(attributes, acls);
            let served = &reading.facts.served[0];
            let line = |part: &ServiceResource| {
                let remarks: Vec<String> = part.remarks.iter().map(|(one, _)| format!(" {one:?}")).collect();
                format!(
                    "{} {:?} {}{}",
                    part.name,
                    part.login.value().unwrap(),
                    part.is_written(),
                    remarks.concat()
                )
            };
            assert_eq!(served.parts.iter().map(line).collect::<Vec<_>>(), wanted, "{attributes}");
            assert_eq!((served.endpoints[0].port, served.endpoints[0].address), (3260, None));
            assert!(!format!("{reading:?}").contains("Sesame"));
        }
    }

    #[test]
    fn broken_files_are_told() {
        let export = Export::new(ExportId(0), "d/saveconfig.json", "{\"targets\": [\n".into());
        let reading = read(&export, &ReadContext::default());
        assert_eq!((reading.ledger.notes.len(), reading.facts.served.len()), (1, 0));
    }
}
