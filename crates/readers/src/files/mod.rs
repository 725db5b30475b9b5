//! Readers of services that give out files and disks.

pub(crate) mod exports;
pub(crate) mod ftp;
pub(crate) mod hosts_access;
pub(crate) mod iscsi;
pub(crate) mod rsync;
pub(crate) mod smb;
pub(crate) mod smbpasswd;
