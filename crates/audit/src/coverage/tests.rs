use super::*;
use crate::Selection;
use crate::compare::SeenCoverage;
use trevlin_checks::check::Need;

fn counts(failed: usize, undetermined: usize, passed: usize) -> AnswerCounts {
    AnswerCounts { failed, undetermined, passed, not_applicable: 1 }
}

#[test]
fn states_of_controls() {
    for (counts, not_judged, complete, wanted) in [
        (counts(0, 0, 3), 0, true, State::Met),
        (counts(0, 0, 3), 0, false, State::PartlyJudged),
        (counts(0, 0, 3), 1, true, State::PartlyJudged),
        (counts(0, 1, 3), 0, true, State::PartlyJudged),
        (counts(1, 0, 3), 0, true, State::NotMet),
        (counts(1, 1, 0), 2, false, State::NotMet),
        (counts(0, 2, 0), 0, true, State::NotJudged),
        (counts(0, 0, 0), 0, true, State::NotJudged),
    ] {
        assert_eq!(State::of(counts, not_judged, complete), wanted, "{counts:?} {not_judged} {complete}");
    }
}

#[test]
fn needs_name_formats_that_exist() {
    for format in Need::ALL.into_iter().flat_map(Need::formats) {
        assert!(trevlin_readers::READERS.iter().any(|reader| reader.name == *format), "{format}");
    }
}

#[test]
fn sets_of_needs() {
    assert!(Need::ALL.into_iter().all(|need| Lacks::all().has(need)));
    assert!(!Lacks::default().any_of(&Need::ALL));
    assert_eq!(Lacks::all().iter().count(), Need::ALL.len());
}

/// Adds nothing and loses nothing: every subject of the audit is in one row.
#[test]
fn every_subject_is_covered() {
    let estate = trevlin_analysis::testing::estate(&[
        ("edge/etc/ssh/sshd_config", "PermitRootLogin yes\nPasswordAuthentication yes\n"),
        ("edge/etc/chrony/chrony.conf", "server 10.4.0.9\n"),
        ("inner/etc/ssh/sshd_config", "PermitRootLogin no\n"),
    ]);
    let outcome =
        crate::audit(&estate, &trevlin_estate::baseline::Baseline::on(jiff::civil::date(2026, 11, 25)));
    let mut found = coverage(&estate, &outcome, &Received::default(), &[]);
    assert_eq!(found.counts(), outcome.summary.tested.counts);
    assert_eq!(found.systems.len(), 2);
    assert!(!found.complete && found.open.len() == 1, "{:?}", found.open);
    let [edge, inner] = found.systems.as_slice() else { unreachable!("two devices") };
    assert!(!edge.lacks.has(Need::Clock) && inner.lacks.has(Need::Clock) && edge.lacks.has(Need::Services));
    let clock = found.checks.iter().find(|one| one.check.id == "upkeep/no-time-source").unwrap();
    assert_eq!((clock.counts.passed, clock.not_judged), (1, 1));
    found.quote(&estate, 1);
    let clock = found.checks.iter().find(|one| one.check.id == "upkeep/no-time-source").unwrap();
    let row = clock.rows.iter().find(|row| row.counts.passed == 1).unwrap();
    assert_eq!(&*row.quoted[0].evidence[0].path, "edge/etc/chrony/chrony.conf");
    // One system alone.
    let inner = coverage(&estate, &outcome, &Received::default(), &["inner".to_owned()]);
    assert!(inner.systems.len() == 1 && inner.counts().judged() < found.counts().judged());
    // A selection saved as complete is not: what it leaves out may have failed.
    let saved = |found: &Coverage| SeenCoverage::from(&Coverage { complete: true, ..found.clone() }).complete;
    let selection = Selection { checks: vec!["upkeep/no-time-source"], ..Selection::default() };
    let one_check = coverage(&estate, &outcome.clone().select(&selection), &Received::default(), &[]);
    assert_eq!([saved(&found), saved(&inner), saved(&one_check)], [true, false, false]);
    let seen = SeenCoverage::from(&found);
    assert!(!seen.complete && seen.checks.iter().any(|one| one.check == "upkeep/no-time-source"));
}

/// An answer counts like a line.
#[test]
fn answers_of_the_estate_file() {
    for (right, wanted) in [(true, (0, 1)), (false, (1, 0))] {
        let answer = format!(
            "[[answer]]\ncheck = \"exposure/no-input-filter\"\ndevice = \"edge\"\nanswer = \"as stated\"\nright = {right}\n\
             by = \"Oda Lind\"\non = 2026-11-20\n[device.edge]\noutside = [\"eth0\"]\n"
        );
        let address = r#"[{"ifname":"eth0","operstate":"UP","addr_info":[{"family":"inet","local":"192.0.2.9","prefixlen":24}]}]"#;
        let estate =
            trevlin_analysis::testing::estate_with(&[("edge/running/ip-addr.json", address)], &answer);
        let baseline = trevlin_estate::baseline::Baseline::on(jiff::civil::date(2026, 11, 25));
        let outcome = crate::audit(&estate, &baseline);
        assert!(!outcome.answers[0].settles.is_empty(), "{:?}", outcome.open_questions);
        let row = outcome.tested.iter().find(|row| row.check == "exposure/no-input-filter").unwrap();
        assert_eq!((row.counts.failed, row.counts.passed, row.counts.undetermined), (wanted.0, wanted.1, 0));
        let by = row.passes.iter().map(|held| held.by).collect::<Vec<_>>();
        assert_eq!(by, if right { vec![HeldBy::EstateFile(1)] } else { vec![] });
    }
}
