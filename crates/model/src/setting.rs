//! A setting is stated, left at its default, or unknown; checks see which.

use crate::Origin;

/// A default that a daemon uses where nothing is stated.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct DefaultValue<T> {
    /// The value.
    pub value: T,
    /// Whose default it is.
    pub daemon: &'static str,
    /// For which versions, in words ("before 2.7").
    pub versions: &'static str,
    /// Where that is documented.
    pub source: &'static str,
}

/// One setting of a device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Setting<T> {
    /// An export states it.
    Stated {
        /// The value in force.
        value: T,
        /// The line that decides.
        origin: Origin,
    },
    /// Nothing is stated; the daemon's default applies, one row per range of versions. With more than one row the version decides, and no
    /// export states it.
    Default(Vec<DefaultValue<T>>),
    /// Not known from the exports.
    Unknown {
        /// The missing information, as a phrase.
        why: String,
    },
}

impl<T> Setting<T> {
    /// The value and its line, where an export states it.
    #[must_use]
    pub fn stated(&self) -> Option<(&T, Origin)> {
        match self {
            Self::Stated { value, origin } => Some((value, *origin)),
            _ => None,
        }
    }

    /// The same setting with another value made from each of its values.
    #[must_use]
    pub fn map<U>(self, change: impl Fn(T) -> U) -> Setting<U> {
        match self {
            Self::Stated { value, origin } => Setting::Stated { value: change(value), origin },
            Self::Default(rows) => Setting::Default(
                rows.into_iter()
                    .map(|row| DefaultValue {
                        value: change(row.value),
                        daemon: row.daemon,
                        versions: row.versions,
                        source: row.source,
                    })
                    .collect(),
            ),
            Self::Unknown { why } => Setting::Unknown { why },
        }
    }

    /// A default that is the same in all versions.
    #[must_use]
    pub fn default_of(value: T, daemon: &'static str, source: &'static str) -> Self {
        Self::Default(vec![DefaultValue { value, daemon, versions: "all versions", source }])
    }

    /// The value in force, where it is certain.
    #[must_use]
    pub fn value(&self) -> Option<&T>
    where
        T: PartialEq,
    {
        match self {
            Self::Stated { value, .. } => Some(value),
            Self::Default(rows) => {
                let first = rows.first()?;
                rows.iter().all(|row| row.value == first.value).then_some(&first.value)
            }
            Self::Unknown { .. } => None,
        }
    }

    /// Every value that may be in force; empty when unknown.
    pub fn possible(&self) -> impl Iterator<Item = &T> {
        let (stated, rows) = match self {
            Self::Stated { value, .. } => (Some(value), [].as_slice()),
            Self::Default(rows) => (None, rows.as_slice()),
            Self::Unknown { .. } => (None, [].as_slice()),
        };
        stated.into_iter().chain(rows.iter().map(|row| &row.value))
    }

    /// Where it is stated.
    #[must_use]
    pub fn origin(&self) -> Option<Origin> {
        match self {
            Self::Stated { origin, .. } => Some(*origin),
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_default_is_certain_only_where_versions_agree() {
        let row = |value| DefaultValue { value, daemon: "d", versions: "v", source: "s" };
        assert_eq!(Setting::Default(vec![row(1), row(1)]).value(), Some(&1));
        let differing = Setting::Default(vec![row(1), row(2)]);
        assert_eq!(differing.value(), None);
        assert_eq!(differing.possible().copied().collect::<Vec<_>>(), [1, 2]);
        assert_eq!(Setting::<u8>::Unknown { why: "x".into() }.value(), None);
    }
}
