use super::*;

const GUIDE: &str = "# Head of it all.\nsheet = \"x\"\n# 1. LOGINS: who?\n#\n# Which accounts?\n#[[logins]]\n#user = \"astrid\"   # \
                     name of the account\n#secret = { withheld = true }\n\n# 2. TUNNELS: which?\n#\n# One block each.\n#[[tunnels]]\n#name = \
                     \"vpn\"\n# How do they log in?\n#[tunnels.proof]\n#passwords = [\"radius\"]\n\n# The rule base.\n#[rule-list]\n#through = \
                     \"deny\"\n# 10. EVERYTHING ELSE: keys\n#\n# complete (yes, no): Whether it is.\n#\n# [[tunnels]]\n#   local-name \
                     (text): A name that is\n#       long.\n#   proof.shared-key (yes, no): A key.\n#\n# [[units]]\n#   name (text): Name.\n";

fn interview(file: &Path, input: &str) -> (String, String) {
    let mut output = Vec::new();
    run(file, GUIDE, ("trevlin-sheet/2", "firewall"), &mut input.as_bytes(), &mut output).unwrap();
    (fs::read_to_string(file).unwrap(), String::from_utf8(output).unwrap())
}

#[test]
fn answers_become_a_sheet_and_go_on() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("gate.toml");
    // Interrupted within an entry: what was answered is kept.
    let (text, _) = interview(&file, "gate\ny\nbjarne\nw\n\ny\nremote access\nq\n");
    assert_eq!(
        text,
        "sheet = \"trevlin-sheet/2\"\nkind = \"firewall\"\ndevice = \"gate\"\n\n[[logins]]\nuser = \"bjarne\"\nsecret = { withheld = \
         true }\n\n[[tunnels]]\nname = \"remote access\"\n"
    );
    // The same command goes on: nothing is asked twice.
    let (text, told) = interview(&file, "\ny\nsecond\nradius, directory\n\ny\n-\n\n");
    assert!(told.contains("logins (1 stated)") && !told.contains("Name of the device"), "{told}");
    assert!(text.ends_with(
        "[[tunnels]]\nname = \"second\"\n\n[tunnels.proof]\npasswords = [\"radius\", \"directory\"]\n\n[rule-list]\nthrough = \"not seen\"\n"
    ), "{text}");
    assert!(told.contains("Next: trevlin sheet check"), "{told}");
}

#[test]
fn none_and_not_seen_differ_from_silence() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("gate.toml");
    let (text, _) = interview(&file, "\nn\n-\n\n");
    assert_eq!(
        text,
        "sheet = \"trevlin-sheet/2\"\nkind = \"firewall\"\nlogins = []\ntunnels = \"not seen\"\n"
    );
}

#[test]
fn every_other_key_can_be_given() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("gate.toml");
    // Among the questions of an entry, and in the end.
    let answers = "\nn\ny\n?\nlocal-name = gate\nproof.shared-key = yes\nvpn\nlocal\n\n\n?\nunits\nother = 1\nname = x.service\n\n\
                   complete\nno\n\n";
    let (text, told) = interview(&file, answers);
    assert_eq!(
        text,
        "sheet = \"trevlin-sheet/2\"\nkind = \"firewall\"\nlogins = []\ncomplete = \"no\"\n\n[[tunnels]]\nlocal-name = \
         \"gate\"\nname = \"vpn\"\n\n[tunnels.proof]\nshared-key = \"yes\"\npasswords = [\"local\"]\n\n[[units]]\nname = \"x.service\"\n"
    );
    for line in ["local-name (text): A name that is long.", "complete, tunnels, units", "not one of the keys"]
    {
        assert!(told.contains(line), "{line}: {told}");
    }
}

#[test]
fn a_file_that_is_no_toml_is_not_overwritten() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("gate.toml");
    fs::write(&file, "sheet = \n").unwrap();
    let wrong = run(&file, GUIDE, ("f", "k"), &mut "".as_bytes(), &mut Vec::new()).unwrap_err();
    assert!(wrong.to_string().contains("is not TOML"), "{wrong}");
    assert_eq!(fs::read_to_string(&file).unwrap(), "sheet = \n");
}

#[test]
fn one_kind_of_a_section_does_not_rule_out_another() {
    const KINDS: &str = "# 1. TUNNELS: which?\n#\n# Remote access.\n#[[tunnels]]\n#name = \"vpn\"\n# 2. ADDRESSES: which?\n# Routes.\n#[[routes]]\n\
                         #gateway = \"x\"\n# Sites.\n#[[tunnels]]\n#family = \"gre\"\n";
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("gate.toml");
    let interview = |input: &str| {
        run(&file, KINDS, ("trevlin-sheet/2", "router"), &mut input.as_bytes(), &mut Vec::new()).unwrap();
        fs::read_to_string(&file).unwrap()
    };
    let text = interview("\nn\nn\nn\n");
    assert!(text.ends_with("routes = []\ntunnels = []\n"), "{text}");
    // A later answer takes it back.
    let text = interview("\n\n\ny\ngre\n\n");
    assert!(text.ends_with("routes = []\n\n[[tunnels]]\nfamily = \"gre\"\n"), "{text}");
    assert!(text.parse::<DocumentMut>().is_ok());
}
