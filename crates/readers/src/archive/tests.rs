//! Archives of every form, and hostile ones.

use super::*;
use std::io::Write;

type Files<'a> = &'a [(&'a str, &'a [u8])];

fn tar_of(files: Files<'_>) -> Vec<u8> {
    let mut builder = tar::Builder::new(Vec::new());
    for (path, bytes) in files {
        let mut header = tar::Header::new_gnu();
        header.set_size(bytes.len() as u64);
        header.set_mode(0o644);
        // As written, whatever it is.
        let name = &mut header.as_gnu_mut().unwrap().name;
        name[..path.len()].copy_from_slice(path.as_bytes());
        header.set_cksum();
        builder.append(&header, *bytes).unwrap();
    }
    builder.into_inner().unwrap()
}

fn zip_of(files: Files<'_>) -> Vec<u8> {
    let mut writer = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for (path, bytes) in files {
        writer.start_file(*path, zip::write::SimpleFileOptions::default()).unwrap();
        writer.write_all(bytes).unwrap();
    }
    writer.finish().unwrap().into_inner()
}

fn gzip(bytes: &[u8]) -> Vec<u8> {
    let mut writer = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
    writer.write_all(bytes).unwrap();
    writer.finish().unwrap()
}

fn zstd(bytes: &[u8]) -> Vec<u8> {
    ruzstd::encoding::compress_to_vec(bytes, ruzstd::encoding::CompressionLevel::Fastest)
}

fn xz(bytes: &[u8]) -> Vec<u8> {
    let mut writer = lzma_rust2::XzWriter::new(Vec::new(), lzma_rust2::XzOptions::with_preset(1)).unwrap();
    writer.write_all(bytes).unwrap();
    writer.finish().unwrap()
}

/// Paths, and the parts left out.
fn told(name: &str, bytes: &[u8], limits: &Limits) -> Vec<String> {
    let found = unpack(name, bytes, limits).unwrap();
    let files = found.files.iter().map(|(path, bytes)| format!("{path} {}", bytes.len()));
    let links = found.links.iter().map(|(path, to)| format!("{path} -> {to}"));
    files.chain(links).chain(found.left_out.iter().map(|(path, why)| format!("{path}: {why}"))).collect()
}

#[test]
fn every_form_is_opened() {
    let files: Files<'_> = &[("edge/etc/a", b"one"), ("./edge/b", b"three")];
    let (zip, tar) = (zip_of(files), tar_of(files));
    let wanted = ["edge/b 5", "edge/etc/a 3"];
    for (name, bytes) in [
        ("a.zip", zip.clone()),
        ("a.tar", tar.clone()),
        ("a.tar.gz", gzip(&tar)),
        ("a.tgz", gzip(&tar)),
        ("a.tar.xz", xz(&tar)),
        ("A.TAR.ZST", zstd(&tar)),
    ] {
        assert_eq!(told(name, &bytes, &Limits::default()), wanted, "{name}");
    }
    assert_eq!(told("edge.conf.gz", &gzip(b"text"), &Limits::default()), ["edge.conf 4"]);
    for (name, bytes) in [("a.zip", &b"no archive"[..]), ("a.docx", &zip), ("a.tar", &tar[..100])] {
        assert!(unpack(name, bytes, &Limits::default()).is_none(), "{name}");
    }
}

#[test]
fn one_within_another() {
    let inner = gzip(&tar_of(&[("etc/a", b"one")]));
    let middle = zip_of(&[("edge.tar.gz", &inner), ("logs/b.txt.gz", &gzip(b"text"))]);
    let limits = Limits::default();
    assert_eq!(told("all.zip", &middle, &limits), ["edge/etc/a 3", "logs/b.txt 4"]);
    let outer = tar_of(&[("all.zip", &middle)]);
    assert_eq!(told("outer.tar", &outer, &limits), ["all/edge/etc/a 3", "all/logs/b.txt 4"]);
    let around = zip_of(&[("outer.tar", &outer)]);
    let lines = told("around.zip", &around, &limits);
    assert!(lines.iter().all(|line| line.contains("an archive nested in 3 others")), "{lines:?}");
}

#[test]
fn what_would_do_harm_is_left_out() {
    let limits = ["file-bytes=4M", "archive-bytes=16M", "files=3"];
    let limits = limits.iter().fold(Limits::default(), |all, said| all.with(said).unwrap());
    let zeros = vec![0u8; 8 << 20];
    for (name, bytes, wanted) in [
        (
            "a.tar",
            tar_of(&[("../x", b"a"), ("/etc/y", b"a"), ("b/../z", b"a")]),
            "its path leads outside the archive",
        ),
        ("a.zip", zip_of(&[("..\\x", b"a")]), "its path leads outside the archive"),
        ("a.gz", gzip(&zeros), "more than 200 times its size"),
        ("a.zip", zip_of(&[("zeros", &zeros[..3 << 20])]), "more than 200 times its size"),
        ("a.zip", zip_of(&[("zeros", &zeros)]), "larger than 4 MiB"),
        ("a.tar", tar_of(&[("zeros", &zeros)]), "larger than 4 MiB"),
        ("a.tar", tar_of(&[("a", b"1"), ("b", b"1"), ("c", b"1"), ("d", b"1")]), "more than 3 files"),
        ("a.tar.gz", gzip(&tar_of(&[("a", b"1")]))[..60].to_vec(), "it cannot be unpacked ("),
        ("a.zip", zip_of(&[("a", b"1")])[..40].to_vec(), "it cannot be unpacked ("),
    ] {
        let lines = told(name, &bytes, &limits);
        assert!(lines.iter().any(|line| line.contains(wanted)), "{wanted}: {lines:?}");
    }
}

#[test]
fn links_are_told_and_not_followed() {
    let mut builder = tar::Builder::new(Vec::new());
    for (path, target, kind) in [
        ("a/sites-enabled/x", "../sites-available/x", tar::EntryType::Symlink),
        ("a/out", "/etc/passwd", tar::EntryType::Symlink),
        ("a/fifo", "x", tar::EntryType::Fifo),
    ] {
        let mut header = tar::Header::new_gnu();
        header.set_entry_type(kind);
        header.set_size(0);
        builder.append_link(&mut header, path, target).unwrap();
    }
    let lines = told("a.tar", &builder.into_inner().unwrap(), &Limits::default());
    assert_eq!(
        lines,
        [
            "a/out -> /etc/passwd",
            "a/sites-enabled/x -> ../sites-available/x",
            "a.tar/a/fifo: neither a file nor a folder",
        ]
    );
}

fn entry(kind: tar::EntryType, path: &str, target: &str, size: u64) -> tar::Header {
    let mut header = tar::Header::new_gnu();
    header.set_entry_type(kind);
    header.set_path(path).unwrap();
    if !target.is_empty() {
        header.set_link_name(target).unwrap();
    }
    header.set_size(size);
    header.set_mode(0o644);
    header.set_cksum();
    header
}

/// A tar of headers and contents, with its end mark.
fn raw_tar(entries: &[(tar::Header, &[u8])]) -> Vec<u8> {
    let mut out = Vec::new();
    for (header, bytes) in entries {
        out.extend_from_slice(header.as_bytes());
        out.extend_from_slice(bytes);
        out.resize(out.len().next_multiple_of(512), 0);
    }
    out.resize(out.len() + 1024, 0);
    out
}

/// A file of `real` bytes of which a tar of GNU's holds none.
fn all_hole(path: &str, real: u64) -> tar::Header {
    let mut header = entry(tar::EntryType::GNUSparse, path, "", 0);
    let gnu = header.as_gnu_mut().unwrap();
    let octal = |field: &mut [u8; 12], number: u64| {
        field.copy_from_slice(format!("{number:011o}\0").as_bytes());
    };
    octal(&mut gnu.realsize, real);
    octal(&mut gnu.sparse[0].offset, real);
    octal(&mut gnu.sparse[0].numbytes, 0);
    header.set_cksum();
    header
}

#[test]
fn joined_archives_are_read_to_their_end() {
    let (one, two) = (tar_of(&[("a", b"1")]), tar_of(&[("b", b"22")]));
    let joined = [one.clone(), two.clone()].concat();
    let skipped = [&b"\x5a\x2a\x4d\x18\x03\0\0\0abc"[..], &zstd(&one), &zstd(&two)].concat();
    for (name, bytes) in [
        ("a.tar", joined.clone()),
        ("a.tar.gz", gzip(&joined)),
        ("a.tar.gz", [gzip(&one), gzip(&two)].concat()),
        ("a.tar.xz", [xz(&one), xz(&two)].concat()),
        ("a.tar.zst", [zstd(&one), zstd(&two)].concat()),
        ("a.tar.zst", skipped),
    ] {
        assert_eq!(told(name, &bytes, &Limits::default()), ["a 1", "b 2"], "{name}");
    }
    let text = [zstd(b"one\n"), zstd(b"two\n"), zstd(b"")].concat();
    let found = unpack("edge.conf.zst", &text, &Limits::default()).unwrap();
    assert_eq!(found.files["edge.conf"].as_slice(), b"one\ntwo\n");
    let text = [&zstd(b"one\n")[..], b"no frame"].concat();
    let lines = told("edge.conf.zst", &text, &Limits::default());
    assert!(lines.len() == 1 && lines[0].contains("what follows a frame is not a frame"), "{lines:?}");
}

#[test]
fn an_archive_that_is_cut_keeps_what_is_whole_and_says_so() {
    let whole = tar_of(&[("a", b"1"), ("b", &[b'x'; 700]), ("c", b"3")]);
    // Cut where an entry ends, in a header, in a file, and in the end mark.
    for (at, kept, wanted) in [
        (1024, vec!["a 1"], "it has no end mark, so files may be missing; please export it again"),
        (1024 + 300, vec!["a 1"], "it cannot be unpacked ("),
        (1024 + 512 + 600, vec!["a 1"], "it cannot be unpacked ("),
        (
            whole.len() - 512,
            vec!["a 1", "b 700", "c 1"],
            "it has no end mark, so files may be missing; please export it again",
        ),
    ] {
        let lines = told("a.tar", &whole[..at], &Limits::default());
        assert_eq!(&lines[..kept.len()], kept, "{at}");
        assert!(lines[kept.len()..].iter().any(|line| line.contains(wanted)), "{at}: {lines:?}");
    }
    let noise: Vec<u8> = (0u32..30_000).map(|n| (n.wrapping_mul(2_654_435_761) >> 24) as u8).collect();
    let packed = gzip(&tar_of(&[("a", b"1"), ("noise", &noise)]));
    let lines = told("a.tar.gz", &packed[..packed.len() / 2], &Limits::default());
    assert_eq!(lines[0], "a 1");
    assert!(lines[1..].iter().all(|line| line.contains("it cannot be unpacked (")), "{lines:?}");
    assert!(lines.iter().any(|line| line.starts_with("a.tar.gz: ")), "{lines:?}");
}

#[test]
fn a_tar_of_before_posix_is_one() {
    let mut header = entry(tar::EntryType::Regular, "edge/a", "", 1);
    header.as_mut_bytes()[257..].fill(0);
    header.set_cksum();
    assert_eq!(told("a.tar", &raw_tar(&[(header, b"1")]), &Limits::default()), ["edge/a 1"]);
}

#[test]
fn second_names_are_files() {
    let file = entry(tar::EntryType::Regular, "one/etc/a", "", 4);
    let second = entry(tar::EntryType::Link, "two/etc/a", "one/etc/a", 0);
    let of_nothing = entry(tar::EntryType::Link, "two/etc/b", "one/etc/b", 0);
    let lines =
        told("a.tar", &raw_tar(&[(file, b"text"), (second, b""), (of_nothing, b"")]), &Limits::default());
    assert_eq!(lines[..2], ["one/etc/a 4", "two/etc/a 4"]);
    assert!(lines[2].starts_with("a.tar/two/etc/b: a hard link to a file that is not"), "{lines:?}");
}

#[test]
fn what_grows_is_counted_whether_it_is_kept_or_not() {
    let limits = Limits::default();
    // Holes: a few KiB that would be a GiB.
    let names: Vec<String> = (0..32).map(|n| format!("hole-{n}")).collect();
    let holes: Vec<(tar::Header, &[u8])> =
        names.iter().map(|name| (all_hole(name, 32 << 20), &b""[..])).collect();
    // The second names of one file.
    let file = vec![b'x'; 600 << 10];
    let mut seconds = vec![(entry(tar::EntryType::Regular, "a", "", file.len() as u64), &file[..])];
    seconds.extend(names.iter().map(|name| (entry(tar::EntryType::Link, name, "a", 0), &b""[..])));
    let second = gzip(&raw_tar(&seconds));
    // Archives in archives multiply.
    let zeros = gzip(&vec![0u8; 24 << 20]);
    let within = zip_of(&[("a.gz", &zeros), ("b.gz", &zeros), ("c.gz", &zeros)]);
    for (name, bytes) in [("a.tar", raw_tar(&holes)), ("a.tar.gz", second), ("a.zip", within)] {
        let found = unpack(name, &bytes, &limits).unwrap();
        let kept: usize = found.files.values().map(|bytes| bytes.len()).sum();
        let most = (bytes.len() as u64 * 200).max(FREE);
        assert!(
            kept as u64 <= most && found.out <= most + found.left_out.len() as u64,
            "{name}: {kept}, {}",
            found.out
        );
        assert!(
            found
                .left_out
                .iter()
                .any(|(_, why)| why.contains("times its size, as an archive built to exhaust memory does;")),
            "{name}: {:?}",
            found.left_out
        );
    }
    // Oversized entries cost nothing, as long as they state their size.
    let large = vec![0u8; 3 << 20];
    let limits = limits.with("file-bytes=2M").unwrap().with("archive-bytes=4M").unwrap();
    let many = tar_of(&[("a", &large), ("b", &large), ("c", b"1")]);
    assert_eq!(unpack("a.tar", &many, &limits).unwrap().files.len(), 1);
}

#[test]
fn entries_over_one_another_are_refused() {
    let zip = zip_of(&[("a", b"one"), ("b", b"two")]);
    assert_eq!(told("a.zip", &zip, &Limits::default()), ["a 3", "b 3"]);
    // The second entry of the directory points at the first's bytes.
    let mut hostile = zip.clone();
    let entries: Vec<usize> =
        (0..hostile.len() - 4).filter(|at| hostile[*at..].starts_with(b"PK\x01\x02")).collect();
    hostile[entries[1] + 42..entries[1] + 46].fill(0);
    let lines = told("a.zip", &hostile, &Limits::default());
    assert!(
        lines.len() == 1
            && lines[0].contains(
                "its entries overlap, as in an archive built to exhaust memory; please export it again"
            ),
        "{lines:?}"
    );
}

#[test]
fn paths_that_clash_do_not_fail_the_whole() {
    let tar = tar_of(&[
        ("a", b"1"),
        ("a/b", b"1"),
        ("c", b"1"),
        ("c", b"22"),
        ("d.conf", b"1"),
        ("d.conf.gz", &gzip(b"333")),
    ]);
    let lines = told("a.tar", &tar, &Limits::default());
    assert_eq!(lines[..4], ["a/b 1", "c 2", "d.conf 1", "d.conf.gz 3"]);
    assert!(lines[4].starts_with("c: it is in the archive more than once"), "{lines:?}");
    assert!(lines[5].starts_with("a: a file of this name"), "{lines:?}");
    let folder = tar_of(&[("edge/a", b"1"), ("edge.tar", &tar_of(&[("a", b"22")]))]);
    assert_eq!(told("a.tar", &folder, &Limits::default()), ["edge.tar/a 2", "edge/a 1"]);
}

#[test]
fn former_states_are_said_once() {
    let tar = tar_of(&[("e/.git/a", b"1"), ("e/.git/b/c", b"1"), ("e/.gitignore", b"1"), ("e/x", b"1")]);
    let lines = told("a.tar", &tar, &Limits::default());
    assert_eq!(lines, ["e/.gitignore 1", "e/x 1", &format!("a.tar/e/.git: {HISTORY}")]);
}
