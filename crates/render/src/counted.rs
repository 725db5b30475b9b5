//! Numbers with their nouns.

/// A number and a noun, in the plural where there is not one: `1 service`, `2 addresses`.
#[must_use]
pub fn counted(count: usize, what: &str) -> String {
    of_text(&count.to_string(), what)
}

/// The same for a number as text, as of large ones in words.
pub(crate) fn of_text(count: &str, what: &str) -> String {
    let ending = match count {
        "1" => "",
        _ if what.ends_with('s') => "es",
        _ => "s",
    };
    format!("{count} {what}{ending}")
}

#[cfg(test)]
mod tests {
    #[test]
    fn nouns_follow_the_number() {
        for (count, what, wanted) in
            [(0, "rule", "0 rules"), (1, "service", "1 service"), (2, "address", "2 addresses")]
        {
            assert_eq!(super::counted(count, what), wanted);
        }
    }
}
