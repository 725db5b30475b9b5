//! Building blocks of files that are made to grow.

/// Files of one device: path and text.
pub(super) type Files = Vec<(String, String)>;

/// One case of growth: its name, and files of about the given number of bytes.
pub struct Way {
    /// The growing elements.
    pub name: String,
    pub(super) make: Box<dyn Fn(usize) -> Files>,
}

/// All registered ways.
#[derive(Default)]
pub(super) struct Ways(pub(super) Vec<Way>);

impl Ways {
    /// One of several files.
    pub(super) fn files(&mut self, name: impl Into<String>, make: impl Fn(usize) -> Files + 'static) {
        self.0.push(Way { name: name.into(), make: Box::new(make) });
    }

    /// One of a single file.
    pub(super) fn file(
        &mut self,
        name: impl Into<String>,
        path: impl Into<String>,
        text: impl Fn(usize) -> String + 'static,
    ) {
        let path = path.into();
        self.files(name, move |bytes| vec![(path.clone(), text(bytes))]);
    }
}

/// This number of bytes of lines, each made from its number.
pub(super) fn lines(bytes: usize, line: impl Fn(usize) -> String) -> String {
    let mut out = String::with_capacity(bytes + 64);
    for number in 0.. {
        if out.len() >= bytes {
            break;
        }
        out.push_str(&line(number));
    }
    out
}

pub(super) fn address(number: usize) -> String {
    format!("10.{}.{}.{}", number >> 16 & 255, number >> 8 & 255, number & 255)
}

/// A list of addresses with something between them.
pub(super) fn addresses(bytes: usize, between: &str) -> String {
    lines(bytes, |number| format!("{}{between}", address(number))).trim_end_matches(between).to_owned()
}
