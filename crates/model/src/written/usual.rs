//! Fields that have a usual value, or a form of their own: each module reads one kind and writes it.

/// A field that is on by default.
pub(crate) mod on_unless_off {
    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    pub(crate) fn serialize<S: Serializer>(on: &bool, to: S) -> Result<S::Ok, S::Error> {
        (!on).then_some("no").serialize(to)
    }

    pub(crate) fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<bool, D::Error> {
        Option::<bool>::deserialize(from).map(|said| said.unwrap_or(true))
    }
}

/// A truth value that may be unknown; a known `false` is written as a word, since a plain `false` counts as not stated.
pub(crate) mod known_truth {
    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    pub(crate) fn serialize<S: Serializer>(known: &Option<bool>, to: S) -> Result<S::Ok, S::Error> {
        known.map(|on| if on { "yes" } else { "no" }).serialize(to)
    }

    pub(crate) fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Option<bool>, D::Error> {
        Option::deserialize(from)
    }
}

/// A number that is 0 unless stated.
pub(crate) mod zero_unless_said {
    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    pub(crate) fn serialize<T: Serialize + Copy, S: Serializer>(
        number: &T,
        to: S,
    ) -> Result<S::Ok, S::Error> {
        number.serialize(to)
    }

    pub(crate) fn deserialize<'de, T: Deserialize<'de> + Default, D: Deserializer<'de>>(
        from: D,
    ) -> Result<T, D::Error> {
        Option::deserialize(from).map(Option::unwrap_or_default)
    }
}

/// A field with a default, which is not written.
macro_rules! unless_said {
    ($(#[$about:meta] $name:ident: $kind:ty = $usual:expr;)*) => {$(
        #[$about]
        pub(crate) mod $name {
            use serde::{Deserialize, Deserializer, Serialize, Serializer};

            pub(crate) fn serialize<S: Serializer>(value: &$kind, to: S) -> Result<S::Ok, S::Error> {
                (*value != $usual).then_some(value).serialize(to)
            }

            pub(crate) fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<$kind, D::Error> {
                Option::deserialize(from).map(|said: Option<$kind>| said.unwrap_or_else(|| $usual))
            }
        }
    )*};
}

unless_said! {
    /// Any client.
    everybody: crate::served::Sources = crate::served::Sources::everybody();
    /// Both versions of IP.
    both: crate::Families = crate::Families::Both;
    /// Stored.
    stored: crate::ExportState = crate::ExportState::Stored;
}

/// The program of an SSH server; the appliance's own by default.
pub(crate) mod openssh {
    use crate::written::{Word, kept};
    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    const UNSAID: &str = "the appliance";

    pub(crate) fn serialize<S: Serializer>(program: &Word, to: S) -> Result<S::Ok, S::Error> {
        (*program != UNSAID).then_some(program).serialize(to)
    }

    pub(crate) fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Word, D::Error> {
        Option::<String>::deserialize(from).map(|said| said.map_or(UNSAID, |said| kept(&said)))
    }
}

/// The address of a listener, where `any` means every address.
pub(crate) mod bound {
    use crate::Setting;
    use serde::de::Error;
    use serde::{Deserialize, Deserializer, Serialize, Serializer};
    use std::net::IpAddr;

    pub(crate) fn serialize<S: Serializer>(at: &Setting<Option<IpAddr>>, to: S) -> Result<S::Ok, S::Error> {
        at.clone().map(|at| at.map_or_else(|| "any".to_owned(), |at| at.to_string())).serialize(to)
    }

    pub(crate) fn deserialize<'de, D: Deserializer<'de>>(
        from: D,
    ) -> Result<Setting<Option<IpAddr>>, D::Error> {
        #[derive(Clone, Copy)]
        struct Bound(Option<IpAddr>);
        impl<'de> Deserialize<'de> for Bound {
            fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
                let text = String::deserialize(from)?;
                let one = text.parse().map_err(|_| {
                    D::Error::invalid_value(serde::de::Unexpected::Str(&text), &"an address, or any")
                });
                if text == "any" { Ok(Self(None)) } else { one.map(|one| Self(Some(one))) }
            }
        }
        Setting::<Bound>::deserialize(from).map(|setting| setting.map(|bound| bound.0))
    }
}

/// Fields that hold a word known when the program is built.
pub(crate) mod word {
    use crate::written::kept;
    use serde::{Deserialize, Deserializer};

    pub(crate) fn one<'de, D: Deserializer<'de>>(from: D) -> Result<&'static str, D::Error> {
        String::deserialize(from).map(|text| kept(&text))
    }

    pub(crate) fn maybe<'de, D: Deserializer<'de>>(from: D) -> Result<Option<&'static str>, D::Error> {
        Option::<String>::deserialize(from).map(|text| text.map(|text| kept(&text)))
    }

    pub(crate) fn each<'de, D: Deserializer<'de>>(from: D) -> Result<&'static [&'static str], D::Error> {
        let words = Vec::<String>::deserialize(from)?;
        // The names of units of one service; few, and each kept once.
        Ok(if words.is_empty() {
            &[]
        } else {
            words.iter().map(|text| kept(text)).collect::<Vec<_>>().leak()
        })
    }

    pub(crate) fn placed<'de, D: Deserializer<'de>>(
        from: D,
    ) -> Result<Vec<(&'static str, crate::Origin)>, D::Error> {
        let words = Vec::<(String, crate::Origin)>::deserialize(from)?;
        Ok(words.iter().map(|(text, origin)| (kept(text), *origin)).collect())
    }
}
