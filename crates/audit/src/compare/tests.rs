use super::*;

fn compare(old: Snapshot, new: Snapshot) -> Comparison {
    super::compare(old, new, &[])
}

fn finding(check: &str, device: &str, title: &str, place: &str) -> SeenFinding {
    let (path, excerpt) = place.split_once('=').unwrap();
    SeenFinding {
        check: check.into(),
        severity: Severity::Medium,
        device: device.into(),
        title: title.into(),
        evidence: vec![SeenEvidence { path: path.into(), line: 1, excerpt: excerpt.into() }],
        fingerprint: format!("{check} {device} {title}"),
        status: Status::Open,
    }
}

fn audit(findings: Vec<SeenFinding>, files: &[&str]) -> Snapshot {
    let mut devices: BTreeMap<String, SeenDevice> = BTreeMap::new();
    for path in files {
        let name = path.split('/').next().unwrap().to_owned();
        let device = devices.entry(name.clone()).or_insert_with(|| SeenDevice { name, exports: Vec::new() });
        device.exports.push(snapshot::SeenExport { path: (*path).to_owned() });
    }
    let devices = devices.into_values().collect();
    Snapshot { as_of: "2026-11-25".into(), devices, findings, ..Snapshot::default() }
}

/// Change of one finding.
fn outcome(was: Option<SeenFinding>, is: Option<SeenFinding>, files: &[&str]) -> String {
    let old = audit(was.into_iter().collect(), &["a/x", "a/y"]);
    let found = compare(old, audit(is.into_iter().collect(), files));
    let mut all = Vec::new();
    all.extend(found.fixed.iter().map(|_| "fixed".to_owned()));
    all.extend(found.unseen.iter().map(|one| format!("unseen: {}", one.missing)));
    all.extend(found.new.iter().map(|_| "new".to_owned()));
    all.extend(
        found.changed.iter().map(|one| format!("changed: {}; worse {}", one.how.join(", "), one.worse)),
    );
    all.extend(found.moved.iter().map(|one| format!("moved: {}", one.how.join(", "))));
    all.extend(found.still.iter().map(|_| "still".to_owned()));
    all.join(" | ")
}

#[test]
fn what_becomes_of_a_finding() {
    let one = || finding("c/d", "a", "the pool 10.4.0.0/24 is wide", "a/x=pool 10.4.0.0/24");
    let same = |change: fn(&mut SeenFinding)| {
        let mut is = one();
        change(&mut is);
        Some(is)
    };
    let both = &["a/x", "a/y"][..];
    for (is, files, wanted) in [
        (Some(one()), both, "still"),
        (None, both, "fixed"),
        (None, &["a/y"], "unseen: the file a/x"),
        (None, &["b/x"], "unseen: the device a"),
        (same(|one| one.evidence[0].line = 40), both, "still"),
        (same(|one| one.severity = Severity::High), both, "changed: previously medium; worse true"),
        (same(|one| one.severity = Severity::Low), both, "changed: previously medium; worse false"),
        (
            same(|one| one.title = "wider".into()),
            both,
            "changed: previously `the pool 10.4.0.0/24 is wide`; worse false",
        ),
        (same(|one| one.status = Status::Accepted), both, "changed: now accepted; worse false"),
        (same(|one| one.evidence[0].path = "a/y".into()), both, "moved: previously at a/x:1"),
        (
            Some(finding("c/d", "a", "the pool 10.4.0.0/23 is wide", "a/x=pool 10.4.0.0/23")),
            both,
            "fixed | new",
        ),
        (
            Some(finding("c/e", "a", "the pool 10.4.0.0/24 is wide", "a/x=pool 10.4.0.0/24")),
            both,
            "fixed | new",
        ),
        (Some(finding("c/d", "a", "something else", "a/x=other")), both, "fixed | new"),
    ] {
        assert_eq!(outcome(Some(one()), is, files), wanted);
    }
    assert_eq!(outcome(None, Some(one()), both), "new");
}

#[test]
fn a_device_by_another_name_is_the_same_device() {
    let all = |name: &str| -> Vec<SeenFinding> {
        (0..3)
            .map(|at| {
                finding(&format!("c/{at}"), name, &format!("title {at}"), &format!("{name}/x=line {at}"))
            })
            .collect()
    };
    let mut later = all("gate");
    later.pop();
    let found = compare(audit(all("edge"), &["edge/x"]), audit(later, &["gate/x"]));
    assert_eq!(found.renamed, [Renamed { old: "edge".into(), new: "gate".into() }]);
    assert_eq!((found.moved.len(), found.fixed.len(), found.new.len()), (2, 1, 0));
    assert!(found.came.is_empty() && found.went.is_empty() && found.unseen.is_empty());
    // One finding in common is a coincidence.
    let found = compare(
        audit(all("edge"), &["edge/x"]),
        audit(vec![finding("c/0", "gate", "title 0", "gate/x=line 0")], &["gate/x"]),
    );
    assert_eq!((found.went.len(), found.came.len(), found.unseen.len(), found.new.len()), (1, 1, 3, 1));
}

#[test]
fn what_is_worse_fails_a_run() {
    let mut grave = finding("c/d", "a", "t", "a/x=l");
    grave.severity = Severity::High;
    let files = &["a/x"];
    let found = compare(audit(vec![], files), audit(vec![grave.clone()], files));
    assert!(found.is_worse(Severity::Info) && found.is_worse(Severity::High));
    assert!(!found.is_worse(Severity::Critical));
    assert!(
        !compare(audit(vec![grave.clone()], files), audit(vec![grave.clone()], files))
            .is_worse(Severity::Info)
    );
    assert!(!compare(audit(vec![grave.clone()], files), audit(vec![], files)).is_worse(Severity::Info));
    grave.status = Status::Accepted;
    assert!(!compare(audit(vec![], files), audit(vec![grave], files)).is_worse(Severity::Info));
}

#[test]
fn what_the_outside_reaches() {
    let exposed = |all: &[(&str, &str, usize)]| {
        let all = all.iter().map(|(device, what, rank)| Exposed {
            device: (*device).into(),
            what: (*what).into(),
            protection: format!("{rank}"),
            rank: *rank,
        });
        let mut one = audit(vec![], &["a/x"]);
        one.exposed = Some(all.collect());
        one
    };
    let old = exposed(&[("a", "ssh", 1), ("a", "web", 3), ("a", "web", 2), ("a", "dns", 0)]);
    let new = exposed(&[("a", "ssh", 1), ("a", "web", 1), ("b", "ssh", 4)]);
    let found = compare(old.clone(), new).exposure.unwrap();
    let names = |all: &[Exposed]| -> Vec<String> {
        all.iter().map(|one| format!("{} {}", one.device, one.what)).collect()
    };
    assert_eq!((names(&found.came), names(&found.went)), (vec!["b ssh".into()], vec!["a dns".into()]));
    assert_eq!((found.changed.len(), found.changed[0].worse, found.still), (1, true, 1));
    assert!(compare(old, audit(vec![], &["a/x"])).exposure.is_none());
}
