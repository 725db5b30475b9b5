//! Templates, and the parts of them that are laid out on every core: findings and tables, which are most of a large estate's report.

use super::markup::{capitalized, code, fence, format, ticked};
use minijinja::{AutoEscape, Environment, Error};
use rayon::prelude::*;
use serde::Serialize;

/// Findings or groups of rows that are laid out in one go.
const AT_ONCE: usize = 64;

/// The templates of one form.
pub(super) struct Layout {
    environment: Environment<'static>,
    form: &'static str,
}

/// Parts of one kind, with their common fields.
#[derive(Serialize)]
struct Parts<'a, T> {
    title: &'a str,
    heads: &'a [&'static str],
    parts: &'a [T],
}

impl Layout {
    /// The templates of `html` or `md`.
    pub(super) fn new(form: &'static str) -> Result<Self, Error> {
        let mut environment = Environment::new();
        environment.set_trim_blocks(true);
        environment.set_lstrip_blocks(true);
        environment.set_auto_escape_callback(|name| match name.rsplit_once('.') {
            Some((_, "html")) => AutoEscape::Html,
            _ => AutoEscape::Custom("markdown"),
        });
        environment.set_formatter(format);
        environment.add_filter("capitalized", capitalized);
        environment.add_filter("code", code);
        environment.add_filter("ticked", ticked);
        environment.add_filter("fence", fence);
        environment.add_template("report.html", include_str!("report.html"))?;
        environment.add_template("findings.html", include_str!("findings.html"))?;
        environment.add_template("groups.html", include_str!("groups.html"))?;
        environment.add_template("report.md", include_str!("report.md"))?;
        environment.add_template("findings.md", include_str!("findings.md"))?;
        environment.add_template("groups.md", include_str!("groups.md"))?;
        Ok(Self { environment, form })
    }

    /// The whole report.
    pub(super) fn whole(&self, view: &impl Serialize) -> Result<String, Error> {
        self.environment.get_template(&format!("report.{}", self.form))?.render(view)
    }

    /// Findings, one below the other.
    pub(super) fn findings<T: Serialize + Sync>(&self, findings: &[T]) -> Result<String, Error> {
        self.parts("findings", "", &[], findings)
    }

    /// Groups of rows, each as a table with these heads.
    pub(super) fn groups<T: Serialize + Sync>(
        &self,
        title: &str,
        heads: &[&'static str],
        groups: &[T],
    ) -> Result<String, Error> {
        self.parts("groups", title, heads, groups)
    }

    fn parts<T: Serialize + Sync>(
        &self,
        template: &str,
        title: &str,
        heads: &[&'static str],
        parts: &[T],
    ) -> Result<String, Error> {
        let template = self.environment.get_template(&format!("{template}.{}", self.form))?;
        let laid = parts.par_chunks(AT_ONCE).map(|parts| template.render(Parts { title, heads, parts }));
        let laid: Vec<String> = laid.collect::<Result<_, _>>()?;
        Ok(laid.concat())
    }
}
