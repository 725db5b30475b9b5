use super::*;
use trevlin_model::ExportId;

fn book(shape: &str, more: &str, phrases: &[(&str, &str)]) -> Phrasebook {
    let mut text = format!(
        "phrasebook = \"{BOOK}\"\nname = \"a gate\"\nshape = \"{shape}\"\n{more}\n[recognise]\nfile = \"*\"\n"
    );
    for (says, lands) in phrases {
        text.push_str(&format!("[[phrase]]\nsays = '{says}'\n{lands}\n"));
    }
    let (book, notes) = Phrasebook::read(&Export::new(ExportId(0), "book.toml", text.clone()));
    assert!(notes.is_empty(), "{notes:?}\n{text}");
    book
}

/// Result of an export with these phrases: the sheet without its first line and without the places of values, and the messages.
fn tried(shape: &str, more: &str, phrases: &[(&str, &str)], export: &str) -> (String, Vec<String>) {
    let book = book(shape, more, phrases);
    let export = Export::new(ExportId(0), "gate.txt", export.into());
    let tried = book.try_on(&export);
    let sheet = tried.sheet.lines().skip(1).filter(|line| !line.is_empty() && !line.starts_with("seen = "));
    let told = tried
        .reading
        .ledger
        .notes
        .iter()
        .map(|note| format!("{} {}", export.line_of(note.origin.start), note.text));
    (sheet.collect::<Vec<_>>().join("\n"), told.collect())
}

#[test]
fn where_things_land() {
    for (name, shape, phrases, export, wanted) in [
        (
            "by name, in any order",
            "lines",
            &[("zone {z} has {i}...", "lands = { \"zones[name={z}].interfaces[]\" = \"{i}\" }")][..],
            "zone a has e0\nzone b has e1 e2\nzone a has e3\n",
            "[[zones]]\nname = \"a\"\ninterfaces = [\"e0\", \"e3\"]\n[[zones]]\nname = \"b\"\ninterfaces = [\"e1\", \"e2\"]",
        ),
        (
            "by what it is called here",
            "lines",
            &[
                ("rule {n} does {do:allow,deny}", "lands = { \"rules[{n}].action\" = \"{do}\" }"),
                ("rule {n} logs", "lands = { \"rules[{n}].logs\" = true }"),
            ],
            "rule 7 does deny\nrule 9 does allow\nrule 7 logs\n",
            "[[rules]]\naction = \"deny\"\nlogs = true\n[[rules]]\naction = \"allow\"",
        ),
        (
            "what is left out lands nowhere, and a hint of it as nothing",
            "lines",
            &[(
                "open {p} [{port:ports}]",
                "lands = { \"rules[].services[]\" = \"{p} {port?}\", \"rules[].name\" = \"at {port}\" }",
            )],
            "open tcp 80,443\nopen esp\n",
            "[[rules]]\nname = \"at 80,443\"\nservices = [\"tcp 80,443\"]\n[[rules]]\nservices = [\"esp\"]",
        ),
        (
            "a statement turned round",
            "lines",
            &[(
                "page {n}",
                "lands = { \"forwards[name={n}].passes\" = true }\ndenied = { \"forwards[name={n}].off\" = true }",
            )],
            "page a\nno page b\n",
            "[[forwards]]\nname = \"a\"\npasses = true\n[[forwards]]\nname = \"b\"\noff = true",
        ),
        (
            "kept aside and put elsewhere",
            "lines",
            &[
                ("suite {s} with {a}...", "lands = { \"$suites[{s}].all[]\" = \"{a}\" }"),
                ("uses {s}", "lands = { \"zones[name=x].interfaces\" = { copy = \"$suites[{s}].all\" } }"),
            ],
            "uses old\nsuite old with a b\n",
            "[[zones]]\nname = \"x\"\ninterfaces = [\"a\", \"b\"]",
        ),
        (
            "anywhere",
            "json",
            &[("** > port {n}", "lands = { \"zones[].name\" = \"{n}\" }"), ("** > x", ""), ("** > y", "")],
            "{\"x\": {\"port\": \"a\", \"y\": [{\"port\": \"b\"}]}}\n",
            "[[zones]]\nname = \"a\"\n[[zones]]\nname = \"b\"",
        ),
    ] {
        let (sheet, told) = tried(shape, "negation = [\"no\"]", phrases, export);
        assert_eq!(sheet, wanted, "{name}");
        let told: Vec<_> = told.iter().filter(|text| !text.contains("is required here")).collect();
        assert!(told.is_empty(), "{name}: {told:?}");
    }
}

#[test]
fn what_makes_no_sense_is_told_at_its_line() {
    let lines = [
        ("suite {s} is {v:speed}", "lands = { \"zones[name={s}].interfaces[]\" = \"{v}\" }"),
        ("uses {s}", "lands = { \"zones[name=x].interfaces\" = { copy = \"$suites[{s}].all\" } }"),
        ("net {n}", "lands = { \"interfaces[name=a].addresses[].net\" = \"{n}\" }"),
    ];
    let (sheet, told) = tried(
        "lines",
        "[values.speed]\nfast = \"quick\"",
        &lines,
        "suite a is slow\nuses none\nnet 10.4.0.300/24\nelse\n",
    );
    assert!(sheet.contains("10.4.0.300/24"), "the sheet shows what was read: {sheet}");
    assert_eq!(told.len(), 4, "{told:?}");
    for (line, part) in [
        (1, "not in the map `speed`"),
        (2, "this name is not defined in this export"),
        (3, "10.4.0.300/24"),
        (4, "no phrase of a gate"),
    ] {
        assert!(
            told.iter().any(|text| text.starts_with(&format!("{line} ")) && text.contains(part)),
            "{part}: {told:?}"
        );
    }
}

#[test]
fn what_phrases_captured_as_secrets_is_masked_and_held() {
    let lands = "lands = { \"secrets[]\" = { kind = \"token\", of = \"it\", secret = \"{k}\" } }";
    let (sheet, told) = tried(
        "lines",
        "",
        &[("key {k:secret}", lands), ("spare {_k:secret}", "")],
        "key Sesame-9\nspare Sesame-8\n",
    );
    assert!(!sheet.contains("Sesame") && told.is_empty(), "{sheet} {told:?}");
}

#[test]
fn origins_point_at_the_export() {
    let text = format!(
        "phrasebook = \"{BOOK}\"\nname = \"a gate\"\nshape = \"indented\"\n[recognise]\nfile = \"*\"\n\
         [[phrase]]\nsays = \"gate {{n}}\"\nlands = {{ \"rules[@1].name\" = \"{{n}}\" }}\n\
         [[phrase]]\nsays = \"gate {{_n}} > {{do:allow,deny}}\"\nlands = {{ \"rules[@1].action\" = \"{{do}}\" }}\n"
    );
    let (book, _) = Phrasebook::read(&Export::new(ExportId(0), "book.toml", text));
    let export = Export::new(ExportId(3), "gate.txt", "x 1\ngate a\n  allow\ngate b\n  deny\n".into());
    let facts = book.read_export(&export).facts;
    let chain = facts.filters[0].chains.iter().find(|chain| chain.name == "through the device").unwrap();
    let shown =
        |rule: &trevlin_model::Rule| &export.text()[rule.origin.start as usize..rule.origin.end as usize];
    assert_eq!(chain.rules[..2].iter().map(shown).collect::<Vec<_>>(), ["gate a\n  allow", "gate b\n  deny"]);
    assert!(chain.rules.iter().all(|rule| rule.origin.export == ExportId(3)));
}

#[test]
fn long_statements_and_deep_names_end() {
    let (_, told) = tried(
        "lines",
        "",
        &[("([a] {x})... end", "lands = { \"zones[].name\" = \"{x}\" }")],
        &"a ".repeat(9000),
    );
    assert!(told[0].contains("this statement has more than"), "{told:?}");
    let nested: String = (0..40).map(|at| format!("name n{at} n{} n{}\n", at + 1, at + 1)).collect();
    let lands = "lands = { \"address-names[name={n}].addresses[]\" = \"{m}\" }";
    let use_it = "lands = { \"rules[]\" = { action = \"allow\", sources = [\"{n}\"] } }";
    let (_, told) =
        tried("lines", "", &[("name {n} {m}...", lands), ("use {n}", use_it)], &format!("{nested}use n0\n"));
    assert!(told.iter().any(|text| text.contains("names are nested")), "{told:?}");
}

#[test]
fn pieces_come_to_the_same_as_the_whole() {
    let phrases = [
        ("zone {z} has {i}...", "lands = { \"zones[name={z}].interfaces[]\" = \"{i}\" }"),
        ("zone {z} is {n}", "lands = { \"zones[name={z}].name\" = \"{n}\" }"),
        ("the rest {do:allow,deny}", "lands = { \"rule-list\" = { through = \"{do}\" } }"),
        ("replies {r:yes-no}", "lands = { \"rule-list.replies\" = \"{r}\" }"),
        (
            "rule {n} > do {do:allow,deny}",
            "lands = { \"rules[@1].action\" = \"{do}\", \"rules[@1].name\" = \"{n}\" }",
        ),
        ("rule {_n} > for {s}", "lands = { \"rules[@1].services[]\" = \"tcp {s}\" }"),
        ("user {u} {role}", "lands = { \"logins[{u}]\" = { user = \"{u}\", service = \"{role}\" } }"),
        ("let {p} in", "lands = { \"rules[].services[]\" = \"{p}\", \"rules[].action\" = \"allow\" }"),
    ];
    let export = "zone a has e0 e1\nreplies yes\nrule 1\n  do allow\n# no rule\n  for 22\nthe rest deny\nuser bo sms\n\
                  rule 2\n  for 80\n\n  for what is this\n  do deny\nlet esp in\nzone b has e2\nuser bo token\nnobody knows\n\
                  replies no\nzone a has e3\nzone a is c\n  for 1\nrule 2\n  do allow\nzone a has e4\n";
    let book = book("indented", "comments = [\"#\"]", &phrases);
    let export = Export::new(ExportId(0), "gate.txt", export.into());
    let told = |length: u32| {
        let tried = book.run(&export, true, length);
        let (notes, facts) = (tried.reading.ledger.notes, tried.reading.facts);
        format!("{}\n{:#?}\n{notes:#?}\n{facts:#?}", tried.sheet, tried.statements)
    };
    let whole = told(1000);
    assert!(whole.contains("[\"e0\", \"e1\", \"e3\", \"e4\"]") && whole.contains("\"token\""), "{whole}");
    for length in 1..=export.line_count() {
        assert_eq!(told(length), whole, "pieces of {length} lines");
    }
}

#[test]
fn what_is_not_understood_leaves_its_entry_open() {
    let phrases = [
        ("* > gate {n}", "lands = { \"rules[@2].name\" = \"{n}\" }"),
        ("* > gate {_n} > from {a}", "lands = { \"rules[@2].from[]\" = \"{a}\" }"),
        ("* > gate {_n} > {f:allow,deny}", "lands = { \"rules[@2].action\" = \"{f}\" }"),
        ("* > crew {name} > {a:address}", "lands = { \"address-names[name={name}].addresses[]\" = \"{a}\" }"),
    ];
    let whole = "[[rules]]\nname = \"1\"\nfrom = [\"a\"]\naction = \"allow\"";
    for (name, export, wanted) in [
        ("understood", "lock { gate 1 { from a; allow } }", whole),
        (
            "a condition, before and behind the others",
            "lock { gate 1 { only night; from a; allow } }",
            "[[rules]]\nname = \"1\"",
        ),
        ("nested in it", "lock { gate 1 { from a; when { night; } allow } }", "[[rules]]\nname = \"1\""),
        ("beside it", "lock { gate 1 { from a; allow } colour blue; odd; }", whole),
        ("without relevance in this block", "lock { gate 1 { from a; size 4; allow } }", whole),
        (
            "without relevance elsewhere",
            "lock { gate 1 { from a; colour night; allow } }",
            "[[rules]]\nname = \"1\"",
        ),
        (
            "a rule of another form",
            "lock { gate 1 { from a; allow } gate of stone 2; }",
            &format!("{whole}\n[[rules]]"),
        ),
        (
            "a member of a name",
            "lock { crew x { 10.4.0.1; odd; } }",
            "[[address-names]]\nname = \"x\"\naddresses = [\"10.4.0.1\", \"a part of it was not understood\"]",
        ),
    ] {
        let passes = "passes = [\"colour {_c}\", \"* > gate {_n} > size {_s}\"]";
        let (sheet, told) = tried("braces", passes, &phrases, export);
        assert_eq!(sheet, wanted, "{name}: {told:?}");
    }
}

#[test]
fn statements_in_braces() {
    let phrases = [
        ("a {x} [{y}]", "lands = { \"zones[name={x}].interfaces[]\" = \"{y}\" }"),
        ("net {n:prefix}", "lands = { \"interfaces[name=e].addresses[].net\" = \"{n}\" }"),
    ];
    for (export, wanted) in [
        ("a \"x\"; a y z;", "[[zones]]\nname = \"y\"\ninterfaces = [\"z\"]"),
        ("a x, y;", "[[zones]]\nname = \"x\"\ninterfaces = [\"y\"]"),
        ("a x y; # of old", "[[zones]]\nname = \"x\"\ninterfaces = [\"y\"]"),
        ("/* a p q;\na r s; */ a x y /* z */;", "[[zones]]\nname = \"x\"\ninterfaces = [\"y\"]"),
        (
            "net 10.4.0.9/255.255.255.0;",
            "[[interfaces]]\nname = \"e\"\naddresses = [{ net = \"10.4.0.9/24\" }]",
        ),
    ] {
        let (sheet, told) = tried("braces", "comments = [\"#\", \"/*\"]", &phrases, export);
        assert_eq!((sheet.as_str(), told.len()), (wanted, 0), "{export}: {told:?}");
    }
}

#[test]
fn two_phrases_fill_one_table() {
    let phrases = [
        ("asks", "lands = { \"tunnels[name=t].proof\" = { certificate = \"required\" } }"),
        ("checks {by}", "lands = { \"tunnels[name=t].proof\" = { passwords = [\"{by}\"] } }"),
    ];
    let (sheet, _) = tried("lines", "", &phrases, "asks\nchecks radius\n");
    assert_eq!(
        sheet,
        "[[tunnels]]\nname = \"t\"\nproof = { certificate = \"required\", passwords = [\"radius\"] }"
    );
}

#[test]
fn a_name_that_is_not_defined_stands_for_something() {
    let phrases = [(
        "let {who}",
        "lands = { \"rules[].sources\" = [{ copy = \"$crews[{who}].all\" }], \"rules[].action\" = \"allow\" }",
    )];
    let (sheet, told) = tried("lines", "", &phrases, "let nobody\n");
    assert!(sheet.contains("sources = [\"nobody\"]"), "{sheet}");
    assert!(told.iter().any(|one| one.contains("not defined")), "{told:?}");
}

#[test]
fn repeated_groups_land_one_entry_each() {
    for (name, phrase, lands, export, wanted) in [
        (
            "one entry a round",
            "crew ({u} {_s:secret} [until {d:date}])...",
            "lands = { \"logins[].user\" = \"{u}\", \"logins[].list\" = \"crew\", \"logins[].expires\" = \"{d}\" }",
            "crew astrid Sesame until 1.5.2026 bjarne Street",
            "[[logins]]\nuser = \"astrid\"\nlist = \"crew\"\nexpires = \"2026-05-01\"\n[[logins]]\nuser = \"bjarne\"\nlist = \"crew\"",
        ),
        (
            "a name, or a protocol and ports",
            "let ({p:tcp,udp} {n:ports} | {name})...",
            "lands = { \"rules[@1].services[]\" = [\"{p} {n}\", \"{name}\"], \"rules[@1].action\" = \"allow\" }",
            "let tcp 53, dns udp 53,123 mail",
            "[[rules]]\nservices = [\"tcp 53\", \"dns\", \"udp 53,123\", \"mail\"]\naction = \"allow\"",
        ),
        (
            "with what stands outside",
            "pool {t} ({a}-{b})...",
            "lands = { \"address-names[]\" = { name = \"{t} {a}\", addresses = [\"{a}-{b}\"] } }",
            "pool x 10.4.0.1-10.4.0.5 10.4.0.7-10.4.0.9",
            "[[address-names]]\nname = \"x 10.4.0.1\"\naddresses = [\"10.4.0.1-10.4.0.5\"]\n[[address-names]]\nname = \"x 10.4.0.7\"\naddresses = [\"10.4.0.7-10.4.0.9\"]",
        ),
        (
            "groups in groups",
            "(zone {z} (has {i})...)...",
            "lands = { \"zones[name={z}].interfaces[]\" = \"{z} {i}\" }",
            "zone a has e0 has e1 zone b has e2",
            "[[zones]]\nname = \"a\"\ninterfaces = [\"a e0\", \"a e1\"]\n[[zones]]\nname = \"b\"\ninterfaces = [\"b e2\"]",
        ),
        (
            "two groups, each with each",
            "zones {z}... have ({i})...",
            "lands = { \"zones[name={z}].interfaces[]\" = \"{i}\" }",
            "zones a b have e0 e1",
            "[[zones]]\nname = \"a\"\ninterfaces = [\"e0\", \"e1\"]\n[[zones]]\nname = \"b\"\ninterfaces = [\"e0\", \"e1\"]",
        ),
        (
            "in and out of a group",
            "zone {i} [and ({i})...]",
            "lands = { \"zones[name=z].interfaces[]\" = \"at {i}\" }",
            "zone e0 and e1 e2",
            "[[zones]]\nname = \"z\"\ninterfaces = [\"at e0\", \"at e1\", \"at e2\"]",
        ),
        (
            "no repetition at all",
            "let {p} [at {n:port}...] [by ({z})...]",
            "lands = { \"rules[].services[]\" = \"{p} {n?}\", \"rules[].from[]\" = \"{z}\", \"rules[].action\" = \"allow\" }",
            "let esp",
            "[[rules]]\nservices = [\"esp\"]\naction = \"allow\"",
        ),
        (
            "values in one entry, groups in several",
            "let {p} [at {n:port}...] [by ({z})...]",
            "lands = { \"rules[].services[]\" = \"{p} {n?}\", \"rules[].from[]\" = \"{z}\", \"rules[].action\" = \"allow\" }",
            "let tcp at 80 443 by a b",
            "[[rules]]\nservices = [\"tcp 80\", \"tcp 443\"]\nfrom = [\"a\"]\naction = \"allow\"\n[[rules]]\nservices = [\"tcp 80\", \"tcp 443\"]\nfrom = [\"b\"]\naction = \"allow\"",
        ),
        (
            "values without a group are a list",
            "let {z}...",
            "lands = { \"rules[].from\" = \"{z}\", \"rules[].action\" = \"allow\" }",
            "let a b",
            "[[rules]]\nfrom = [\"a\", \"b\"]\naction = \"allow\"",
        ),
    ] {
        let (sheet, told) = tried("lines", "", &[(phrase, lands)], export);
        let told: Vec<_> = told.iter().filter(|text| !text.contains("is required here")).collect();
        assert_eq!(sheet, wanted, "{name}: {told:?}");
    }
}

#[test]
fn words_that_are_cut_and_put_together() {
    let phrases = [
        ("wire.{n:number}.address {a:address}", "lands = { \"$wire[{n}].address\" = \"{a}\" }"),
        (
            "wire.{n:number}.mask {m:mask}",
            "lands = { \"interfaces[name=w{n}].addresses[].net\" = { join = [{ copy = \"$wire[{n}].address\" }, \"/\", \"{m}\"] } }",
        ),
        ("mode {m:mode}", "lands = { \"zones[name=z].interfaces[]\" = \"{m}\" }"),
        ("takes {all:list}", "lands = { \"zones[name=z].interfaces[]\" = \"{all}\" }"),
    ];
    let values = "[values.mode]\nslow = \"quick\"\n\"*\" = \"{}\"";
    for (export, wanted) in [
        (
            "wire.2.mask 255.255.255.0\nwire.2.address 10.4.0.9\n",
            "[[interfaces]]\nname = \"w2\"\naddresses = [{ net = \"10.4.0.9/24\" }]",
        ),
        ("mode slow\nmode fast\n", "[[zones]]\nname = \"z\"\ninterfaces = [\"quick\", \"fast\"]"),
        ("takes a,b,c\n", "[[zones]]\nname = \"z\"\ninterfaces = [\"a\", \"b\", \"c\"]"),
    ] {
        let (sheet, told) = tried("lines", values, &phrases, export);
        assert_eq!((sheet.as_str(), told.len()), (wanted, 0), "{export}: {told:?}");
    }
    let (sheet, told) = tried("lines", values, &phrases, "wire.2.mask 255.255.255.0\n");
    assert!(sheet.contains("wire") || told.iter().any(|one| one.contains("not defined")), "{sheet} {told:?}");
}

#[test]
fn a_table_without_a_needed_value_is_not_there() {
    let phrases = [(
        "route {d:prefix} [by {g:address}] [cost {c:number}]",
        "lands = { \"routes[]\" = { destination = \"{d}\", gateway = \"{g}\", metric = \"{c?}\" } }",
    )];
    let (sheet, _) = tried("lines", "", &phrases, "route 10.5.0.0/16 by 10.4.0.1\nroute 10.6.0.0/16\n");
    assert_eq!(sheet, "[[routes]]\ndestination = \"10.5.0.0/16\"\ngateway = \"10.4.0.1\"");
    let phrases = [(
        "rule [from {z}] {do:allow,deny}",
        "lands = { \"rules[]\" = { from = [\"{z}\"], action = \"{do}\" } }",
    )];
    let (sheet, told) = tried("lines", "", &phrases, "rule from a allow\nrule deny\n");
    assert_eq!(sheet, "[[rules]]\nfrom = [\"a\"]\naction = \"allow\"\n[[rules]]");
    assert!(told.iter().any(|one| one.contains("values that it needs")), "{told:?}");
}

#[test]
fn tables_among_other_lines() {
    let wanted =
        "[[logins]]\nuser = \"astrid\"\nlist = \"house\"\n[[logins]]\nuser = \"bjarne\"\nlist = \"the crew\"";
    for (name, shape, table, export) in [
        (
            "below their headings",
            "lines",
            "begins = 'Name {_:rest}'",
            "x\nName    Last login  List\n------  ----------  -----\nastrid  2026-01-05  house\nbjarne              the crew\n\nx\n",
        ),
        (
            "word by word, and longer than the heading",
            "sections",
            "begins = 'Name List'\nends = '= end'",
            "[x]\nName List\nastrid house\nbjarne \"the crew\"\n= end\n",
        ),
        (
            "with signs between",
            "indented",
            "begins = '\"|\" Name {_:rest}'\nseparator = '|'",
            "x\n  | Name | List |\n  |------|------|\n  | astrid | house |\n  | bjarne | the crew |\nx\n",
        ),
        (
            "in a block, with names of their own",
            "braces",
            "begins = 'Who Where'\nseparator = ','\ncolumns = ['Name', 'List']",
            "x {\nWho Where\nastrid,house\nbjarne,the crew\n}\nx;\n",
        ),
    ] {
        let levels = if shape == "lines" { "" } else { "x > " };
        let level = if levels.is_empty() { 2 } else { 3 };
        let phrases = [
            (
                format!("{levels}members > row > Name {{u}}"),
                format!("lands = {{ \"logins[@{level}].user\" = \"{{u}}\" }}"),
            ),
            (
                format!("{levels}members > row > List {{l:rest}}"),
                format!("lands = {{ \"logins[@{level}].list\" = \"{{l}}\" }}"),
            ),
            (format!("{levels}members > row > Last login {{_d:date}}"), String::new()),
            ("x".to_owned(), String::new()),
        ];
        let phrases: Vec<(String, String)> =
            phrases.map(|(says, lands)| (says.replace("Last login", "\"Last login\""), lands)).into();
        let borrowed: Vec<(&str, &str)> = phrases.iter().map(|(a, b)| (a.as_str(), b.as_str())).collect();
        let (sheet, told) = tried(
            shape,
            &format!("passes = [\"= end\", \"end\"]\n[[table]]\nname = 'members'\n{table}\n"),
            &borrowed,
            export,
        );
        let told: Vec<_> = told.iter().filter(|text| !text.contains("is required here")).collect();
        assert_eq!(sheet, wanted, "{name}: {told:?}");
        assert!(told.is_empty(), "{name}: {told:?}");
    }
}

#[test]
fn the_nearest_phrase_and_what_does_not_fit() {
    let phrases = [
        ("port {name} holds {_net:prefix}", ""),
        ("port {name} > speed {_n:number}", ""),
        ("user {_u} word {_w:secret} [{_mode:plain,sealed}]", ""),
    ];
    let phrases = phrases.map(|(says, lands)| (says.replace("{name}", "{_name}"), lands));
    let phrases: Vec<(&str, &str)> = phrases.iter().map(|(says, lands)| (says.as_str(), *lands)).collect();
    let of_block = "it ends too early for the phrase on line 8; expected `holds`";
    for (export, wanted) in [
        (
            "port a holds 10.4.0.300/24",
            "`10.4.0.300/24` does not fit the phrase on line 8; expected an address with its length, such as 10.20.4.0/24",
        ),
        (
            "port a holds",
            "it ends too early for the phrase on line 8; expected an address with its length, such as 10.20.4.0/24",
        ),
        (
            "port a holds 10.4.0.0/24 x",
            "`x` does not fit the phrase on line 8; expected the end of the statement",
        ),
        ("port b\n  speed fast", "`fast` does not fit the phrase on line 11; expected a whole number"),
        (
            "user ann word Sesame-1 odd",
            "word 5 does not fit the phrase on line 14; expected one of plain, sealed or the end of the statement",
        ),
        ("else", "no phrase of a gate matches"),
    ] {
        let book = book("indented", "", &phrases);
        let export = Export::new(ExportId(0), "gate.txt", export.into());
        let told: Vec<String> = book
            .try_on(&export)
            .statements
            .into_iter()
            .filter_map(|(_, took)| match took {
                PhraseResult::Nobody(why) => Some(why),
                _ => None,
            })
            .collect();
        let told: Vec<&str> = told.iter().map(String::as_str).filter(|one| *one != of_block).collect();
        assert_eq!(told, [wanted], "{}", export.text());
    }
}

/// Addresses of statements that were not understood, and of an interface without a name: the device may have them.
#[test]
fn addresses_that_the_device_may_have() {
    let phrases = [
        ("wire > named {n}", "lands = { \"interfaces[@1].name\" = \"{n}\" }"),
        ("wire > at {a:prefix}", "lands = { \"interfaces[@1].addresses[].net\" = \"{a}\" }"),
    ];
    let book = book("indented", "", &phrases);
    for (text, wanted) in [
        ("wire\n named a\n at 10.4.0.1/24\n", &[][..]),
        ("wire\n at 10.4.0.1/24\n", &["10.4.0.1/24"]),
        ("wire\n named a\n also 10.5.0.1/24\n", &["10.5.0.1/24"]),
        ("line 10.5.0.1 255.255.255.0\nline 10.5.0.1/255.255.0.0\n", &["10.5.0.1/24", "10.5.0.1/16"]),
        ("line 2001:db8::1/64\n", &["2001:db8::1/64"]),
        // A route, a host and the device itself.
        ("route 10.5.0.0/24\nhost 10.5.0.1/32\nhost 10.5.0.1\nloop 127.0.0.1/8\n", &[]),
    ] {
        let reading = book.read_export(&Export::new(ExportId(0), "x", text.into()));
        let found: Vec<String> =
            reading.facts.possible_addresses.iter().map(|one| one.net.to_string()).collect();
        assert_eq!(found, wanted, "{text}");
    }
}
