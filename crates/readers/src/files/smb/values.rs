//! Values of `smb.conf`, of `[global]` and of shares.

use crate::serving::truth;
use std::collections::BTreeMap;
use std::sync::Arc;
use trevlin_model::Origin;

/// Values by name, each with its line.
pub(super) type Values = BTreeMap<String, (Arc<str>, Origin)>;

/// A section other than `[global]`.
pub(super) struct Share {
    pub(super) name: String,
    pub(super) values: Values,
    pub(super) origin: Origin,
}

/// A value and its line.
pub(super) fn get<'v>(values: &'v Values, key: &str) -> Option<(&'v str, Origin)> {
    values.get(key).map(|(value, origin)| (&**value, *origin))
}

/// A truth value and its line; none for any other text.
pub(super) fn yes(values: &Values, key: &str) -> Option<(bool, Origin)> {
    let (value, origin) = get(values, key)?;
    Some((truth(value)?, origin))
}
