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

/// Moments in seconds since 1970 that may be written as a day, each with the moment that counts where none is stated.
macro_rules! day_or_seconds {
    ($(#[$about:meta] $name:ident: $usual:expr, $time:expr;)*) => {$(
        #[$about]
        pub(crate) mod $name {
            use serde::de::{Error, Visitor};
            use serde::{Deserialize, Deserializer, Serializer};
            use std::fmt;

            const USUAL: i64 = $usual;

            pub(crate) fn serialize<S: Serializer>(seconds: &i64, to: S) -> Result<S::Ok, S::Error> {
                if *seconds == USUAL { to.serialize_none() } else { to.serialize_i64(*seconds) }
            }

            pub(crate) fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<i64, D::Error> {
                struct Moment(i64);
                impl<'de> Deserialize<'de> for Moment {
                    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
                        struct Words;
                        impl Visitor<'_> for Words {
                            type Value = Moment;

                            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                                f.write_str("a date such as 2027-03-01")
                            }

                            fn visit_i64<E: Error>(self, seconds: i64) -> Result<Moment, E> {
                                Ok(Moment(seconds))
                            }

                            fn visit_str<E: Error>(self, text: &str) -> Result<Moment, E> {
                                let day = super::day(text);
                                let day = day.ok_or_else(|| E::invalid_value(serde::de::Unexpected::Str(text), &self))?;
                                Ok(Moment(day * 86_400 + $time))
                            }
                        }
                        from.deserialize_any(Words)
                    }
                }
                Option::<Moment>::deserialize(from).map(|said| said.map_or(USUAL, |said| said.0))
            }
        }
    )*};
}

day_or_seconds! {
    /// The moment from which something is valid.
    first_day: 0, 0;
    /// The last moment at which something is valid.
    last_day: 253_402_300_799, 86_399;
}

/// Days since 1970-01-01 of a date as 2027-03-01, by the rules of the Gregorian calendar; `None` for anything else.
#[must_use]
pub fn day(text: &str) -> Option<i64> {
    let mut parts = text.trim().splitn(3, '-').map(|part| part.parse::<i64>().ok());
    let (year, month, day) = (parts.next()??, parts.next()??, parts.next()??);
    let leap = |year: i64| year % 4 == 0 && (year % 100 != 0 || year % 400 == 0);
    let days = [31, if leap(year) { 29 } else { 28 }, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31];
    let of_month = *days.get(usize::try_from(month - 1).ok()?)?;
    if !(1970..=9999).contains(&year) || !(1..=of_month).contains(&day) {
        return None;
    }
    let years: i64 = (1970..year).map(|year| if leap(year) { 366 } else { 365 }).sum();
    let months: i64 = days.iter().take(usize::try_from(month - 1).ok()?).sum();
    Some(years + months + day - 1)
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

#[cfg(test)]
mod days {
    use super::day;

    #[test]
    fn dates_in_days() {
        for (text, days) in [
            ("1970-01-01", Some(0)),
            ("2000-03-01", Some(11_017)),
            ("2026-11-30", Some(20_787)),
            ("2024-02-29", Some(19_782)),
            ("2023-02-29", None),
            ("2026-13-01", None),
            ("soon", None),
            ("2026-11", None),
        ] {
            assert_eq!(day(text), days, "{text}");
        }
    }
}
