//! One connection that is asked about, and the packets it begins with.

use crate::cube::Value;
use std::net::IpAddr;

/// SYN alone, and SYN with ACK (RFC 9293, 3.1).
pub(crate) const SYN: Value = 0b10;

pub(crate) const SYN_ACK: Value = 0b1_0010;

pub(crate) const ACK: Value = 0b1_0000;

pub(crate) const TCP: u8 = 6;

pub(crate) const UDP: u8 = 17;

/// Whether a transport protocol has ports: TCP, UDP, DCCP, SCTP and UDP-Lite.
#[must_use]
pub fn has_ports(protocol: u8) -> bool {
    matches!(protocol, TCP | UDP | 33 | 132 | 136)
}

/// An attempted connection.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Flow<'a> {
    /// Interface by which its first packet enters.
    pub entering: &'a str,
    /// Source address.
    pub source: IpAddr,
    /// Destination address, of the same IP version.
    pub destination: IpAddr,
    /// Transport protocol. For ICMP an echo request is followed.
    pub protocol: u8,
    /// Source port.
    pub source_port: u16,
    /// Destination port.
    pub port: u16,
}
