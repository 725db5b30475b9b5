//! Archives: no path leaves them, and nothing grows over the limits.

#![no_main]

use trevlin_model::{Limit, Limits};
use trevlin_readers::archive::unpack;

const NAMES: [&str; 7] = ["a.zip", "a.tar", "a.tar.gz", "a.tar.xz", "a.tar.zst", "a.gz", "a.xz"];

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    let [which, rest @ ..] = data else { return };
    let said = ["file-bytes=256K", "archive-bytes=1M", "files=64"];
    let limits = said.iter().fold(Limits::default(), |all, one| all.with(one).expect("a limit"));
    let name = NAMES[usize::from(*which) % NAMES.len()];
    let Some(found) = unpack(name, rest, &limits) else { return };
    assert!(found.files.len() + found.links.len() <= limits.of(Limit::Files));
    for path in found.files.keys().chain(found.links.keys()) {
        assert!(
            !path.starts_with('/') && path.split('/').all(|part| part != ".." && !part.is_empty()),
            "{path:?}"
        );
    }
    let total: usize = found.files.values().map(|bytes| bytes.len()).sum();
    assert!(total <= limits.of(Limit::ArchiveBytes));
    assert!(found.files.values().all(|bytes| bytes.len() <= limits.of(Limit::FileBytes)));
});
