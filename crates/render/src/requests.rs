//! Information requests: those of several checks for one thing are one.

use indexmap::IndexMap;
use trevlin_audit::{InformationRequest, RequestParts};

/// An information request with every check that raises it.
pub(crate) struct Request<'a> {
    /// The first question of it: its addressee and its line.
    pub(crate) first: &'a InformationRequest,
    /// The request with all its reasons.
    pub(crate) text: String,
    /// The checks that raise it.
    pub(crate) checks: Vec<&'a str>,
}

/// Information requests. Requests to one device for the same thing, which several checks raise, are one request with all the reasons,
/// listed where the first of them is raised.
pub(crate) fn merged(questions: &[InformationRequest]) -> Vec<Request<'_>> {
    let mut groups: IndexMap<(&str, bool, &str), Vec<&InformationRequest>> = IndexMap::new();
    for one in questions {
        let wanted = match (&one.parts, one.files.first()) {
            (Some(parts), _) => &*parts.beginning,
            (None, Some(file)) => file,
            (None, None) => &*one.question,
        };
        groups.entry((&*one.device, one.estate_wide, wanted)).or_default().push(one);
    }
    groups.into_values().map(request).collect()
}

fn request(questions: Vec<&InformationRequest>) -> Request<'_> {
    let mut checks: Vec<&str> = Vec::new();
    for one in &questions {
        if !checks.contains(&one.check) {
            checks.push(one.check);
        }
    }
    let parts: Vec<&RequestParts> = questions.iter().filter_map(|one| one.parts.as_ref()).collect();
    let first = questions[0];
    Request { first, text: joined(&parts).unwrap_or_else(|| first.question.to_string()), checks }
}

/// One sentence with every reason once: `Please provide X: it decides A, and B; C.`
fn joined(parts: &[&RequestParts]) -> Option<String> {
    let beginning = &parts.first()?.beginning;
    let mut deciding: Vec<&str> = Vec::new();
    let mut others: Vec<&str> = Vec::new();
    for one in parts {
        let list = if one.decides { &mut deciding } else { &mut others };
        if !list.contains(&&*one.reason) {
            list.push(&one.reason);
        }
    }
    let deciding = match deciding.as_slice() {
        [] => None,
        [one, other] => Some(format!("{one}, and {other}")),
        all => Some(all.join("; ")),
    };
    let decides = deciding.map(|clauses| format!("it decides {clauses}"));
    let reasons: Vec<&str> = decides.as_deref().into_iter().chain(others).collect();
    Some(format!("{beginning}: {}.", reasons.join("; ")))
}

/// The device whose administrator a request is addressed to, or all.
pub(crate) fn addressee(one: &InformationRequest) -> &str {
    if one.estate_wide { "all devices" } else { &one.device }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reasons_are_joined_to_one_sentence() {
        let part = |reason: &str, decides| RequestParts {
            beginning: "Please provide `a` of gate".into(),
            reason: reason.into(),
            decides,
        };
        let all = [
            part("whether b is limited", true),
            part("no filter was exported", false),
            part("the exposure of c", true),
            part("whether b is limited", true),
        ];
        let all: Vec<&RequestParts> = all.iter().collect();
        assert_eq!(
            joined(&all).unwrap(),
            "Please provide `a` of gate: it decides whether b is limited, and the exposure of c; no filter was exported."
        );
        assert_eq!(joined(&[]), None);
    }
}
