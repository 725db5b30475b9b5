//! Readers of databases, caches and brokers.

pub(crate) mod host_list;
pub(crate) mod influxdb;
pub(crate) mod mariadb;
pub(crate) mod mosquitto;
pub(crate) mod pg_hba;
pub(crate) mod postgresql;
pub(crate) mod redis;
