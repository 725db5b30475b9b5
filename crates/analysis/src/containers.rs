//! Containers behind the ports that their engine publishes.

use std::net::IpAddr;
use trevlin_model::container::Container;
use trevlin_model::{Device, IpRange};

/// The container of a device that has an address, by its number.
#[must_use]
pub fn container_at(device: &Device, address: IpAddr) -> Option<usize> {
    device.facts.containers.iter().position(|one| one.addresses.contains(&address))
}

/// Containers of a device among whose addresses are all of these.
#[must_use]
pub fn containers_of<'d>(device: &'d Device, addresses: &[IpRange]) -> Vec<&'d Container> {
    let has = |one: &&Container| {
        one.addresses.iter().any(|address| addresses.iter().any(|range| range.contains(*address)))
    };
    let single = |range: &IpRange| container_at(device, range.first()).is_some() && range.size() == 1;
    if !addresses.iter().all(single) {
        return Vec::new();
    }
    device.facts.containers.iter().filter(has).collect()
}

/// A container with its image, as outputs name it.
#[must_use]
pub fn named(container: &Container) -> String {
    match &container.image {
        Some(image) => format!("container {} ({image})", container.title()),
        None => format!("container {}", container.title()),
    }
}
