//! Words that identify formats with little else in common: shared by the readers and the format hints.

/// Words that identify its files.
pub(crate) const MOSQUITTO: [&str; 6] = [
    "allow_anonymous",
    "per_listener_settings",
    "persistence_location",
    "max_inflight_messages",
    "sys_interval",
    "listener",
];

/// How a connection comes.
pub(crate) const PG_HBA_KINDS: [&str; 6] =
    ["local", "host", "hostssl", "hostnossl", "hostgssenc", "hostnogssenc"];

/// Authentication methods.
pub(crate) const PG_HBA_METHODS: [&str; 13] = [
    "trust",
    "reject",
    "scram-sha-256",
    "md5",
    "password",
    "gss",
    "sspi",
    "ident",
    "peer",
    "ldap",
    "radius",
    "cert",
    "pam",
];

/// Words that identify its files.
pub(crate) const POSTGRESQL: [&str; 6] = [
    "shared_buffers",
    "max_wal_size",
    "listen_addresses",
    "hba_file",
    "dynamic_shared_memory_type",
    "lc_messages",
];

/// Words that identify its files.
pub(crate) const REDIS: [&str; 6] =
    ["requirepass", "protected-mode", "appendonly", "tcp-keepalive", "replicaof", "maxmemory-policy"];

/// Words that distinguish its files from those of other time services.
pub(crate) const CHRONY: [&str; 5] = ["makestep", "rtcsync", "leapsectz", "ntsdumpdir", "maxupdateskew"];

/// Kinds of entries, and whether the entry itself contains a secret.
pub(crate) const IPSEC_SECRETS: [&str; 10] =
    ["bliss", "eap", "ecdsa", "ntlm", "p12", "pin", "pkcs8", "psk", "rsa", "xauth"];

/// Words that identify its files.
pub(crate) const SNMP: [&str; 9] = [
    "rocommunity",
    "rwcommunity",
    "com2sec",
    "rouser",
    "rwuser",
    "agentaddress",
    "rocommunity6",
    "rwcommunity6",
    "createuser",
];

/// Words that ssh_config(5), its twin for clients, does not have.
pub(crate) const SSHD: [&str; 9] = [
    "permitrootlogin",
    "authorizedkeysfile",
    "maxauthtries",
    "logingracetime",
    "usepam",
    "permitemptypasswords",
    "allowusers",
    "clientaliveinterval",
    "authenticationmethods",
];
