//! Error of an estate file, and its place.

/// Why an estate file was not taken, with the line.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[error("line {line}: {text}")]
pub struct EstateFileError {
    /// Line, from 1.
    pub line: usize,
    /// The problem and the expected content.
    pub text: String,
}

/// There is no check of this id.
#[derive(Debug, Clone, thiserror::Error, PartialEq, Eq)]
#[error("there is no check `{id}`{}", hint(*near))]
pub struct UnknownCheck {
    /// The requested id.
    pub id: String,
    /// The id that was probably intended.
    pub near: Option<&'static str>,
}

fn hint(near: Option<&str>) -> String {
    match near {
        Some(near) => format!("; did you mean `{near}`?"),
        None => "; `trevlin checks` lists them".to_owned(),
    }
}

/// The id of a check that an estate file names, or why there is none.
pub type KnownCheck<'a> = &'a dyn Fn(&str) -> Result<&'static str, UnknownCheck>;

/// A text that may not be left empty, and why not.
pub(crate) fn filled(
    name: &str,
    text: &toml::Spanned<String>,
    why: &str,
    line_of: &dyn Fn(usize) -> usize,
) -> Result<String, EstateFileError> {
    match text.get_ref().trim() {
        "" => Err(EstateFileError {
            line: line_of(text.span().start),
            text: format!("`{name}` is empty; {why}"),
        }),
        said => Ok(said.to_owned()),
    }
}
