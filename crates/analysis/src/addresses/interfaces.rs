//! Properties that names of interfaces indicate.

/// Whether an interface connects only containers or virtual machines of one host, by the names that programs give their bridges.
pub fn is_host_local(name: &str) -> bool {
    let bridge = name
        .strip_prefix("br-")
        .is_some_and(|rest| rest.len() == 12 && rest.bytes().all(|byte| byte.is_ascii_hexdigit()));
    bridge
        || ["docker", "virbr", "lxcbr", "lxdbr", "podman", "cni", "veth", "incusbr"]
            .iter()
            .any(|kind| name.starts_with(kind))
}
