//! Exports in no format that is read: what they configure is in no table.

use serde::Serialize;
use std::sync::Arc;
use trevlin_estate::assemble::Estate;
use trevlin_model::LineClass;

/// A file that was not read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct UnreadRow {
    /// The device.
    pub device: String,
    /// The export.
    pub path: Arc<str>,
}

/// Files in no format that is read, of the devices named, or of all. Files that configure nothing are left out.
#[must_use]
pub fn unread(estate: &Estate, devices: &[String]) -> Vec<UnreadRow> {
    let wanted = estate.devices.iter().filter(|one| devices.is_empty() || devices.contains(&one.name));
    let of_device = |device: &trevlin_model::Device| -> Vec<UnreadRow> {
        let records = device.exports.iter().map(|id| &estate.exports[id.0 as usize]);
        let strange = records
            .filter(|record| record.format.is_none() && record.ledger.count(LineClass::NotUnderstood) > 0);
        strange
            .map(|record| UnreadRow { device: device.name.clone(), path: record.export.path().into() })
            .collect()
    };
    wanted.flat_map(of_device).collect()
}
