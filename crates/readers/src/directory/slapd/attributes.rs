//! Attributes and object classes that rules of access name.

/// An attribute of a rule.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Listed {
    Name(String),
    /// All of an object class; with `true` all but these.
    Class(String, bool),
}

impl Listed {
    /// The attribute or class that a word of `attrs` names.
    pub(crate) fn of(word: &str) -> Self {
        let lower = word.trim().to_ascii_lowercase();
        match lower.split_at_checked(1) {
            Some(("@", class)) => Self::Class(class.to_owned(), false),
            Some(("!", class)) => Self::Class(class.to_owned(), true),
            _ => Self::Name(lower.split(';').next().unwrap_or_default().to_owned()),
        }
    }

    /// Whether it means an attribute.
    pub(crate) fn fits(&self, attribute: &str) -> bool {
        match self {
            Self::Name(name) => name == attribute || is_below(attribute, name),
            Self::Class(class, false) => has_attribute(class, attribute),
            Self::Class(class, true) => !has_attribute(class, attribute),
        }
    }
}

/// Attributes that are kinds of another (RFC 4519, RFC 4512).
fn is_below(attribute: &str, name: &str) -> bool {
    const KINDS: [(&str, &[&str]); 2] = [
        (
            "name",
            &[
                "c",
                "cn",
                "commonname",
                "sn",
                "surname",
                "givenname",
                "gn",
                "initials",
                "generationqualifier",
                "l",
                "o",
                "ou",
                "st",
                "title",
                "dmdname",
                "co",
            ],
        ),
        (
            "distinguishedname",
            &["member", "owner", "roleoccupant", "seealso", "uniquemember", "manager", "secretary"],
        ),
    ];
    KINDS.iter().any(|(above, all)| *above == name && all.contains(&attribute))
}

/// Whether entries of an object class may have an attribute, as far as passwords and numbers of accounts go (RFC 4519, 4524, 2307, 2798).
pub(crate) fn has_attribute(class: &str, attribute: &str) -> bool {
    const PERSON: [&str; 6] = ["userpassword", "cn", "sn", "telephonenumber", "seealso", "description"];
    const ACCOUNT: [&str; 8] =
        ["userpassword", "cn", "uid", "uidnumber", "gidnumber", "homedirectory", "loginshell", "gecos"];
    match class {
        "extensibleobject" => true,
        "person" => PERSON.contains(&attribute),
        "organizationalperson" => {
            PERSON.contains(&attribute) || matches!(attribute, "title" | "ou" | "l" | "st")
        }
        "inetorgperson" => {
            PERSON.contains(&attribute)
                || matches!(
                    attribute,
                    "mail" | "uid" | "title" | "ou" | "l" | "st" | "givenname" | "jpegphoto"
                )
        }
        "posixaccount" => ACCOUNT.contains(&attribute) || attribute == "description",
        "shadowaccount" => {
            matches!(attribute, "userpassword" | "uid" | "description") || attribute.starts_with("shadow")
        }
        "posixgroup" => {
            matches!(attribute, "userpassword" | "cn" | "gidnumber" | "memberuid" | "description")
        }
        "simplesecurityobject" => attribute == "userpassword",
        "organization" | "organizationalunit" => {
            matches!(attribute, "userpassword" | "o" | "ou" | "l" | "st" | "description" | "telephonenumber")
        }
        "sambasamaccount" => attribute.starts_with("samba") || matches!(attribute, "uid" | "cn"),
        _ => false,
    }
}
