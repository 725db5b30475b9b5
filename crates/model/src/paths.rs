//! Files that a path in a configuration means, among the exports of one device.

use crate::glob;

/// Finds the export that a path in a configuration means, among the paths of one device's exports.
///
/// Exports seldom keep the whole tree, so in this order: the path itself relative to the file that names it, the same tail
/// (`etc/ppp/options` of `/etc/ppp/options`), and a file name that only one export has, unless its own path shows another place
/// (`etc/app/options`). A path that climbs (`..`) is only compared by its name.
#[must_use]
pub fn find_path(wanted: &str, named_in: &str, paths: &[&str]) -> Option<usize> {
    let tail = wanted.trim_start_matches("./").trim_start_matches('/');
    if tail.is_empty() {
        return None;
    }
    if !wanted.starts_with('/') {
        let folder = named_in.rfind('/').map_or("", |at| &named_in[..=at]);
        let beside = format!("{folder}{tail}");
        if let Some(at) = paths.iter().position(|path| *path == beside) {
            return Some(at);
        }
    }
    let ends_with = |path: &str, tail: &str| {
        path == tail || path.strip_suffix(tail).is_some_and(|rest| rest.ends_with('/'))
    };
    let only = |tail: &str| {
        let mut found = paths.iter().enumerate().filter(|(_, path)| ends_with(path, tail));
        let first = found.next()?.0;
        found.next().is_none().then_some(first)
    };
    // What is kept as on the device is where it is.
    let elsewhere = |at: &usize| wanted.starts_with('/') && !wanted.contains("..") && is_placed(paths[*at]);
    only(tail).or_else(|| only(tail.rsplit('/').next()?).filter(|at| !elsewhere(at)))
}

/// Whether a path keeps the place of the file on its device: it has one of the folders at the root of a file system.
fn is_placed(path: &str) -> bool {
    // The first part may be the name of a device.
    let mut parts = path.split('/').rev().skip(1).collect::<Vec<_>>().into_iter().rev();
    parts.next().is_some_and(|first| matches!(first, "etc" | "usr" | "var"))
        || parts.any(|part| matches!(part, "etc" | "usr" | "var" | "opt" | "srv" | "home" | "root"))
}

/// Every export that a path with wildcards means, in order of path: as [`find_path`], but each part of the path may
/// hold `*`, `?` and sets in brackets (glob(7)). A part that begins with a dot is only met by a dot. A relative path means files below a
/// folder that `named_in` lies in, and of several the nearest: other programs have folders of the same name.
#[must_use]
pub fn find_paths(pattern: &str, named_in: &str, paths: &[&str]) -> Vec<usize> {
    if !pattern.contains(['*', '?', '[']) {
        return find_path(pattern, named_in, paths).into_iter().collect();
    }
    let parts: Vec<&str> =
        pattern.trim_start_matches("./").split('/').filter(|part| !part.is_empty()).collect();
    let fits = |path: &str| {
        let own: Vec<&str> = path.split('/').collect();
        own.len() >= parts.len()
            && own[own.len() - parts.len()..]
                .iter()
                .zip(&parts)
                .all(|(text, pattern)| glob_part(text, pattern))
    };
    let mut found: Vec<usize> = (0..paths.len()).filter(|at| fits(paths[*at])).collect();
    if !pattern.starts_with('/') {
        // Length of the folder that the pattern starts from, where `named_in` lies in it.
        let start = |at: &usize| -> Option<usize> {
            let path = paths[*at];
            let matched = path.rsplit('/').take(parts.len()).map(|part| part.len() + 1).sum::<usize>();
            let folder = &path[..path.len().saturating_sub(matched)];
            let within =
                folder.is_empty() || named_in.strip_prefix(folder).is_some_and(|rest| rest.starts_with('/'));
            within.then_some(folder.len())
        };
        let nearest = found.iter().filter_map(start).max();
        found.retain(|at| nearest.is_some() && start(at) == nearest);
    }
    found.sort_by_key(|at| paths[*at]);
    found
}

/// Whether one part of a path matches one part of a pattern: hidden names do not match stars (glob(7)).
fn glob_part(text: &str, pattern: &str) -> bool {
    (!text.starts_with('.') || pattern.starts_with('.')) && glob::matches(text, pattern, glob::Signs::Sets)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_found_as_people_export_them() {
        let paths =
            ["d/etc/ppp/options", "d/etc/ppp/pptpd-options", "d/vpn/a.conf", "d/vpn/b.conf", "d/b.conf"];
        for (wanted, named_in, found) in [
            ("/etc/ppp/options", "d/etc/pptpd.conf", Some(0)),
            ("/etc/ppp/options.pptpd", "d/etc/pptpd.conf", None),
            ("b.conf", "d/vpn/a.conf", Some(3)),
            ("./b.conf", "d/x.conf", Some(4)),
            // It is kept where it is on the device, and that is not `/opt`.
            ("/opt/pptpd-options", "d/etc/pptpd.conf", None),
            ("/etc/else/a.conf", "d/etc/pptpd.conf", Some(2)),
            ("/opt/b.conf", "d/etc/pptpd.conf", None),
            ("", "d/x", None),
        ] {
            assert_eq!(find_path(wanted, named_in, &paths), found, "{wanted}");
        }
    }

    #[test]
    fn wildcards_in_paths() {
        let paths = [
            "d/etc/ssh/sshd_config.d/20-b.conf",
            "d/etc/ssh/sshd_config.d/10-a.conf",
            "d/etc/ssh/x.conf",
            "d/.hid",
        ];
        for (pattern, found) in [
            ("/etc/ssh/sshd_config.d/*.conf", vec![1, 0]),
            ("/etc/ssh/sshd_config.d/[12]0-?.conf", vec![1, 0]),
            ("/etc/ssh/sshd_config.d/[!1]*", vec![0]),
            ("/etc/ssh/sshd_config.d/[0-1]*", vec![1]),
            ("/etc/ssh/*.conf", vec![2]),
            ("/etc/ssh/x.conf", vec![2]),
            ("*hid", vec![]),
            ("ss*/x*o*n*f", vec![2]),
            ("ss*/x**x", vec![]),
        ] {
            assert_eq!(find_paths(pattern, "d/etc/ssh/sshd_config", &paths), found, "{pattern}");
        }
    }

    #[test]
    fn relative_wildcards_start_from_a_folder_around_the_file() {
        let paths = [
            "d/etc/a/conf.d/1.conf",
            "d/etc/b/conf.d/2.conf",
            "d/etc/b/main/conf.d/3.conf",
            "d/conf.d/4.conf",
        ];
        for (pattern, named_in, found) in [
            ("conf.d/*.conf", "d/etc/a/a.conf", vec![0]),
            ("conf.d/*.conf", "d/etc/a/sites/x.conf", vec![0]),
            ("conf.d/*.conf", "d/etc/b/main/b.conf", vec![2]),
            ("conf.d/*.conf", "d/kept.conf", vec![3]),
            ("conf.d/*.conf", "e/etc/a/a.conf", vec![]),
            ("/etc/b/conf.d/*.conf", "d/etc/a/a.conf", vec![1]),
            // Its own folder `conf.d` is empty, and that of another program is none of its own.
            ("main/*.conf", "d/etc/a/a.conf", vec![]),
        ] {
            assert_eq!(find_paths(pattern, named_in, &paths), found, "{pattern} in {named_in}");
        }
    }

    #[test]
    fn many_stars_end() {
        let (text, pattern) = ("a".repeat(200), "*a".repeat(100) + "b");
        assert!(find_paths(&pattern, "d/x", &[&text]).is_empty());
        assert_eq!(find_paths(&"*a".repeat(100), "d/x", &[&text]), [0]);
    }
}
