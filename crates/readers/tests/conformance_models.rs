//! Case files of standard models are valid, according to yanglint and the modules of the RFCs. Run by scripts/conformance.sh, which
//! provides the path of the modules.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::path::{Path, PathBuf};
use std::process::Command;

/// Modules that the cases use, with the features that their data need.
const MODULES: [(&str, &str); 9] = [
    ("ietf/ietf-interfaces", ""),
    ("ietf/ietf-ip", "ipv4-non-contiguous-netmasks"),
    ("iana/iana-if-type", ""),
    ("ietf/ietf-routing", ""),
    ("ietf/ietf-ipv4-unicast-routing", ""),
    ("ietf/ietf-access-control-list", "match-on-ipv4,match-on-tcp,match-on-udp,ipv4,interface-attachment"),
    ("ietf/ietf-system", "radius,authentication,local-users,ntp,ntp-udp-port,radius-authentication"),
    ("ietf/ietf-snmp", ""),
    ("ietf/ietf-key-chain", ""),
];

fn validated(file: &Path) -> Result<(), String> {
    #[allow(clippy::disallowed_methods, reason = "the script says where the modules are")]
    let modules =
        PathBuf::from(std::env::var_os("YANG_MODULES").expect("YANG_MODULES names the folder of modules"));
    let mut command = Command::new("yanglint");
    command.arg("-p").arg(modules.join("ietf")).arg("-p").arg(modules.join("iana")).args(["-t", "config"]);
    for (module, features) in MODULES.iter().filter(|(_, features)| !features.is_empty()) {
        command.arg("-F").arg(format!("{}:{features}", module.rsplit('/').next().unwrap()));
    }
    command.args(MODULES.iter().map(|(module, _)| modules.join(format!("{module}.yang"))));
    let output = command.arg(file).output().unwrap();
    let told = String::from_utf8_lossy(&output.stderr).into_owned();
    if output.status.success() && told.is_empty() { Ok(()) } else { Err(told) }
}

fn case(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/cases/yang").join(name)
}

#[test]
#[ignore = "needs yanglint and the modules; run by scripts/conformance.sh"]
fn cases_are_valid() {
    assert_eq!(validated(&case("quay-gate.json")), Ok(()));
    // The envelope of a NETCONF reply is no part of the models.
    let text = std::fs::read_to_string(case("quay-gate.xml")).unwrap();
    let (_, inner) = text.split_once("<data>").unwrap();
    let (inner, _) = inner.split_once("</data>").unwrap();
    let folder = tempfile::tempdir().unwrap();
    let bare = folder.path().join("data.xml");
    std::fs::write(&bare, inner).unwrap();
    assert_eq!(validated(&bare), Ok(()));
}

/// A validator that lets everything pass would tell nothing.
#[test]
#[ignore = "needs yanglint and the modules; run by scripts/conformance.sh"]
fn what_the_models_do_not_allow_is_told() {
    let text = std::fs::read_to_string(case("quay-gate.json"))
        .unwrap()
        .replace("\"operator\": \"eq\"", "\"operator\": \"about\"");
    let folder = tempfile::tempdir().unwrap();
    let wrong = folder.path().join("data.json");
    std::fs::write(&wrong, text).unwrap();
    assert!(validated(&wrong).is_err());
}
