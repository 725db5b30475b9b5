//! Tables that are compiled in.

/// A static that holds a table in TOML that is compiled in, by its path from the source file: `table! { static KEYS: Keys =
/// "../tables/keys.toml"; }`. Parsed on first use, and in a test.
///
/// # Panics
/// When it cannot be read into its type: a table that is not what its reader expects would switch checks off in silence. The test
/// that comes with each finds that first.
#[macro_export]
macro_rules! table {
    ($(#[$about:meta])* $visible:vis static $name:ident: $kind:ty = $path:literal;) => {
        $(#[$about])*
        $visible static $name: std::sync::LazyLock<$kind> =
            std::sync::LazyLock::new(|| $crate::read_table($path, include_str!($path)));

        #[cfg(test)]
        #[allow(non_snake_case)]
        mod $name {
            #[test]
            fn can_be_read() {
                std::sync::LazyLock::force(&super::$name);
            }
        }
    };
}

/// What [`table!`] reads with.
///
/// # Panics
/// As described there.
#[doc(hidden)]
#[must_use]
pub fn read_table<T: serde::de::DeserializeOwned>(path: &str, text: &str) -> T {
    toml::from_str(text).unwrap_or_else(|error| panic!("the built-in table {path} cannot be read: {error}"))
}

#[cfg(test)]
mod tests {
    use super::read_table;
    use std::collections::BTreeMap;

    #[test]
    #[should_panic(expected = "the built-in table words.toml cannot be read")]
    fn a_table_of_another_form_is_a_fault() {
        let _: BTreeMap<String, u8> = read_table("words.toml", "one = \"two\"");
    }
}
