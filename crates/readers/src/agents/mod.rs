//! Agents of monitoring: programs that answer other hosts about the device, and may run commands for them.

pub(crate) mod monit;
pub(crate) mod nrpe;
pub(crate) mod nut;
#[cfg(test)]
mod tests;
pub(crate) mod zabbix;
