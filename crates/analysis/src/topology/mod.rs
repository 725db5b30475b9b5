//! Connections between the devices of an estate: interfaces that share a network, tunnels, interfaces that face untrusted networks, and
//! entry points of VPN clients. Where the exports are not conclusive, assumptions are made and reported.

mod clients;
mod links;
mod networks;
mod shape;
#[cfg(test)]
mod tests;
mod tunnels;

pub use clients::RemoteClients;
pub(crate) use clients::interface_of;
pub use networks::{Network, router};
pub use shape::{Assumption, SiteLink, Topology};

use trevlin_estate::assemble::{Estate, OutsideReason};
use trevlin_estate::special::not_public;
use trevlin_packets::way::Place;

impl Topology {
    /// Works it out.
    #[must_use]
    pub fn of(estate: &Estate) -> Self {
        let mut all = Self::default();
        all.face_outside(estate);
        all.shape.does_not_carry(not_public());
        networks::join(estate, &mut all);
        clients::place(estate, &mut all);
        tunnels::join(estate, &mut all);
        links::join(estate, &mut all);
        // Clients from another site of the estate belong to that site.
        for clients in &mut all.clients {
            let place = Place { device: clients.device, interface: clients.interface.clone() };
            let sites = all.shape.takes(&place);
            clients.ranges.retain(|range| !sites.iter().any(|site| site.covers(range)));
        }
        all.clients.retain(|one| !one.ranges.is_empty());
        all
    }

    fn face_outside(&mut self, estate: &Estate) {
        for (device, one) in estate.devices.iter().enumerate() {
            for interface in estate.outside(device) {
                let place = Place { device, interface: interface.name.clone() };
                let fix = |list: &str| format!("[device.\"{}\"] outside = {list}", one.name);
                if !interface.certain {
                    self.assumptions.push(Assumption {
                        text: format!(
                            "{} of {} is assumed to face internal networks: its addresses are private, and its next hop is \
                             in no export",
                            interface.name, one.name
                        ),
                        otherwise: fix(&format!("[\"{}\"]", interface.name)),
                        origins: interface.origin.into_iter().collect(),
                    });
                    continue;
                }
                let guessed = match interface.reason {
                    OutsideReason::PublicAddress(origin) => Some((origin, "it has the only public address")),
                    OutsideReason::Hides(origin) => Some((
                        origin,
                        "outgoing connections are translated to its address, and no stronger evidence exists",
                    )),
                    OutsideReason::Stated | OutsideReason::DefaultRoute(_) => None,
                };
                if let Some((origin, why)) = guessed {
                    self.assumptions.push(Assumption {
                        text: format!(
                            "{} of {} is assumed to face the Internet: {why}",
                            interface.name, one.name
                        ),
                        otherwise: fix("[]"),
                        origins: vec![origin],
                    });
                }
                self.shape.faces_outside(place.clone());
                self.outside.push(place);
            }
        }
    }
}
