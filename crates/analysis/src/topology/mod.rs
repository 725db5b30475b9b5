//! How the devices of an estate are joined: interfaces that share a network, what tunnels join, what faces the outside, and where
//! callers of each tunnel appear. What the exports do not tell for certain is guessed, and said.

mod callers;
mod networks;
#[cfg(test)]
mod tests;
mod tunnels;

pub use callers::Callers;
pub use networks::{Network, router};

use trevlin_estate::assemble::{Estate, OutsideReason};
use trevlin_estate::special::not_public;
use trevlin_model::Origin;
use trevlin_packets::way::{Place, Shape};

/// Something that is taken to be so, and that the estate file can put right.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Guess {
    /// What is taken to be so, and why.
    pub text: String,
    /// What to write into the estate file where it is otherwise.
    pub otherwise: String,
    /// What it was guessed from.
    pub origins: Vec<Origin>,
}

/// Two ends of a tunnel that are both devices of the estate.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Joined {
    /// Name of the tunnel at the first end.
    pub name: String,
    /// Both ends, the one with the smaller name first.
    pub ends: [Place; 2],
    /// Where each is stated.
    pub origins: Vec<Origin>,
}

/// How the devices of an estate are joined.
#[derive(Debug, Clone, Default)]
pub struct EstateShape {
    /// As the packet engine takes it.
    pub shape: Shape,
    /// Networks with who is on them, in order of their first interface.
    pub networks: Vec<Network>,
    /// Where callers of each tunnel appear, in order of device.
    pub callers: Vec<Callers>,
    /// Sites joined by tunnels.
    pub joined: Vec<Joined>,
    /// Interfaces that face the outside for certain.
    pub outside: Vec<Place>,
    /// What is guessed.
    pub guesses: Vec<Guess>,
}

impl EstateShape {
    /// Works it out.
    #[must_use]
    pub fn of(estate: &Estate) -> Self {
        let mut all = Self::default();
        all.face_outside(estate);
        all.shape.does_not_carry(not_public());
        networks::join(estate, &mut all);
        callers::place(estate, &mut all);
        tunnels::join(estate, &mut all);
        // Who calls from another site of the estate is that site, and no caller.
        for callers in &mut all.callers {
            let place = Place { device: callers.device, interface: callers.interface.clone() };
            let sites = all.shape.takes(&place);
            callers.ranges.retain(|range| !sites.iter().any(|site| site.covers(range)));
        }
        all.callers.retain(|one| !one.ranges.is_empty());
        all
    }

    fn face_outside(&mut self, estate: &Estate) {
        for (device, one) in estate.devices.iter().enumerate() {
            for interface in estate.outside(device) {
                let place = Place { device, interface: interface.name.clone() };
                let fix = |list: &str| format!("[device.\"{}\"] outside = {list}", one.name);
                if !interface.certain {
                    self.guesses.push(Guess {
                        text: format!(
                            "{} of {} is taken to lie inside: its addresses are private, and its next hop is in no export",
                            interface.name, one.name
                        ),
                        otherwise: fix(&format!("[\"{}\"]", interface.name)),
                        origins: interface.origin.into_iter().collect(),
                    });
                    continue;
                }
                let guessed = match interface.reason {
                    OutsideReason::PublicAddress(origin) => Some((origin, "it has the only public address")),
                    OutsideReason::Hides(origin) => {
                        Some((origin, "what leaves by it is given its address, and nothing tells better"))
                    }
                    OutsideReason::Stated | OutsideReason::DefaultRoute(_) => None,
                };
                if let Some((origin, why)) = guessed {
                    self.guesses.push(Guess {
                        text: format!(
                            "{} of {} is taken to face the outside: {why}",
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

    /// The network that an interface is on.
    #[must_use]
    pub fn network_of(&self, place: &Place) -> Option<&Network> {
        self.networks.get(self.shape.segment(place)?)
    }

    /// Callers of the tunnels that a device answers.
    #[must_use]
    pub fn callers_at(&self, device: usize) -> &[Callers] {
        trevlin_estate::assemble::of_device(&self.callers, device, |one| one.device)
    }

    /// Callers of the tunnels of devices, by the names of the tunnels.
    #[must_use]
    pub fn callers_of(&self, name: &str) -> Vec<&Callers> {
        self.callers.iter().filter(|one| one.tunnel == name).collect()
    }
}
