//! Facts about an estate: devices, logins, secrets, pools, tunnels, listeners and filters.
//!
//! Every fact carries an [`Origin`]: the export it was read from and the bytes that state it. This crate knows neither file formats nor
//! checks; it defines the facts and protects secrets.
//!
//! ```
//! use trevlin_model::{Export, ExportId};
//!
//! let export = Export::new(ExportId(0), "edge/etc/pptpd.conf", "# dial-in\nremoteip 10.0.0.5-9\n".into());
//! let origin = export.origin(10..18);
//! assert_eq!(export.line_of(origin.start), 2);
//! ```

pub mod account;
mod address;
pub mod certificate;
pub mod cloud;
pub mod container;
mod datastore;
mod described;
mod device;
pub mod dhcp;
mod export;
mod facts;
mod filter;
mod filter_change;
pub mod forwards;
pub mod glob;
pub mod grant;
mod hash;
pub mod housekeeping;
pub mod ike;
mod interface;
pub mod ipsec;
pub mod kernel;
mod kind;
mod ledger;
mod limits;
pub mod listen;
mod login;
pub mod login_guard;
pub mod login_source;
mod meaning;
pub mod offer;
pub mod outgoing;
pub mod pam;
mod paths;
pub mod plan;
pub mod policy;
mod pool;
mod ppp;
pub mod radius;
pub mod relay;
mod residual;
pub mod secret;
pub mod served;
mod sets;
mod setting;
pub mod ssh;
pub mod ssh_key;
pub mod sudo;
mod table;
mod tunnel;
mod wiped;
pub mod wireguard;
pub mod written;

pub use address::{Family, IpRange, RangeError};
pub use datastore::datastore_state;
pub use described::Described;
pub use device::{Device, DeviceKind};
pub use export::{Export, ExportId, ExportState, Line, Origin, Position};
pub use facts::{Facts, IdleConfiguration, IdleProgram, IdleReason, IdleTunnel, NotAnalysed};
pub use filter::{
    AddressKind, Chain, ChainKind, ConnectionStates, Families, Filter, FilterFormat, Hook, IcmpRange, Match,
    MatchKind, NamedSet, PortForward, PortRange, Protocol, Rule, Target, Translation, TranslationKind,
};
pub use filter_change::{CommandMoment, FilterChange, IptablesTable, TableChange, built_in_hook};
pub use interface::{Interface, InterfaceAddress, Route};
pub use ledger::{Gap, GapKind, Ledger, LineClass, Note, Truncation};
pub use limits::{LIMITS, Limit, LimitError, LimitRow, Limits, size};
pub use login::{Expiry, FactorKind, Login, LoginDaemon, LoginList};
pub use paths::{find_path, find_paths};
pub use pool::{MalformedAddress, Pool, PoolPlacement, PossibleAddress};
pub use ppp::{AllowedAddresses, Credential, Mppe, PppProfile, SecretsFile};
pub use residual::{Residual, ResidualKind};
pub use secret::{Secret, SecretRecord};
pub use sets::{IpRangeSet, PortSet, Taken, total_addresses, total_ports};
pub use setting::{DefaultValue, Setting};
#[doc(hidden)]
pub use table::read_table;
pub use tunnel::{
    AlternativeLogin, CertificateRequirement, ClientAuthentication, Listener, PasswordCheck, PasswordSource,
    Reference, Revocation, Tunnel, TunnelFamily, TunnelRole,
};
