//! Places that are collected.

use super::roles;
use std::sync::LazyLock;

/// Beginnings of all paths that scripts collect for some format, up to the first pattern, and whether there is one.
static PLACES: LazyLock<Vec<(String, bool)>> = LazyLock::new(|| {
    let roles = roles();
    let read = roles.iter().filter(|role| !role.formats.is_empty());
    let mut all = Vec::new();
    for path in read.flat_map(super::Role::all_paths) {
        let (start, pattern) =
            path.split_once('*').map_or((path.as_str(), false), |(start, _)| (start, true));
        if let Some(below) = start.strip_prefix("/etc/") {
            all.push((format!("/usr/local/etc/{below}"), pattern));
        }
        all.push((start.to_owned(), pattern));
    }
    all
});

/// Whether a path lies where scripts collect: what no reader knows there was considered, and configures nothing that is judged.
#[must_use]
pub fn is_collected_place(path: &str) -> bool {
    let path = format!("/{path}");
    let tops = ["/etc/", "/usr/", "/var/", "/root/"];
    let Some(at) = tops.iter().filter_map(|top| path.find(top)).min() else { return false };
    let path = &path[at..];
    let known = |(place, pattern): &(String, bool)| {
        path.strip_prefix(place.as_str())
            .is_some_and(|rest| *pattern || rest.is_empty() || rest.starts_with('/'))
    };
    PLACES.iter().any(known)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places() {
        for (path, wanted) in [
            ("edge/etc/ssh/moduli", true),
            ("etc/nginx/fastcgi_params", true),
            ("edge/usr/local/etc/nginx/x", true),
            ("edge/etc/xrdp/xrdp.ini", true),
            ("edge/etc/lightdm/lightdm.conf", false),
            ("edge/etc/sshd/x", false),
            ("edge/etc/sshd.conf", false),
            ("edge/etc/ufw/applications.d/x", true),
            ("edge/etc/ufw/user.rules", true),
            ("edge/etc/postfix/main.cf", true),
            ("edge/etc/cron.daily/x", true),
            ("edge/opt/x.conf", false),
            ("edge/running/x.txt", false),
        ] {
            assert_eq!(is_collected_place(path), wanted, "{path}");
        }
    }
}
