//! Documents of standard models that show the datastore for the next start beside the one that is in force.

use crate::assemble::input::Input;
use std::collections::BTreeSet;
use trevlin_model::{ExportState, Facts, datastore_state};

/// The format of documents of standard models.
const FORMAT: &str = "yang";

/// Takes the packet filters, forwards and secrets alone of what is stored, where a device has a document of what runs: the rest would
/// be of the device twice.
pub(super) fn set_aside(inputs: &mut [Input]) {
    let of_models = |one: &Input| one.format == Some(FORMAT);
    let runs = |one: &Input| datastore_state(&one.export) == ExportState::Running;
    let shown: BTreeSet<String> =
        inputs.iter().filter(|one| of_models(one) && runs(one)).map(|one| one.folder.clone()).collect();
    for input in inputs.iter_mut().filter(|one| of_models(one) && !runs(one)) {
        if !shown.contains(&input.folder) {
            continue;
        }
        let facts = std::mem::take(&mut *input.facts);
        *input.facts = Facts {
            filters: facts.filters,
            forwards: facts.forwards,
            secrets: facts.secrets,
            announced: facts.announced,
            masked_places: facts.masked_places,
            ..Facts::default()
        };
        let text =
            "stored, and not what runs: only the packet filters, forwards and secrets of the file were taken";
        input.ledger.put_aside(input.export.origin(0..0), text);
    }
}

#[cfg(test)]
mod tests {
    use crate::testing::estate;

    #[test]
    fn what_is_stored_is_not_in_force_beside_what_runs() {
        let document = |port: u16, user: &str| {
            format!(
                r#"{{"ietf-access-control-list:acls":{{"acl":[{{"name":"in","type":"ipv4-acl-type","aces":{{"ace":[
{{"name":"a","matches":{{"ipv4":{{"protocol":6}},"tcp":{{"destination-port":{{"operator":"eq","port":{port}}}}}}},"actions":{{"forwarding":"accept"}}}}]}}}}],
"attachment-points":{{"interface":[{{"interface-id":"wan0","ingress":{{"acl-sets":{{"acl-set":[{{"name":"in"}}]}}}}}}]}}}},
"ietf-system:system":{{"authentication":{{"user":[{{"name":"{user}","password":"$0$Quay-Sesame-9"}}]}}}}}}"#
            )
        };
        let (running, startup) = (document(22, "ines"), document(443, "olga"));
        let both = estate(&[("r/running.json", running.as_str()), ("r/startup.json", startup.as_str())]);
        let tables = both.tables_in_force(0);
        assert_eq!(tables.len(), 1);
        assert_eq!(both.export(tables[0].origin.export).path(), "r/running.json");
        assert!(both.mixed().is_empty());
        assert_eq!(both.devices[0].facts.filters.len(), 2);
        let logins = |estate: &crate::assemble::Estate| -> usize { estate.devices[0].facts.logins.len() };
        assert_eq!(logins(&both), 1);
        let alone = estate(&[("r/startup.json", startup.as_str())]);
        assert_eq!((alone.tables_in_force(0).len(), logins(&alone)), (1, 1));
    }
}
