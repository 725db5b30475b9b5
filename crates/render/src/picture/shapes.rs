//! Shapes of allocations in a picture.

use std::fmt::Write;
use trevlin_audit::addresses::AllocationKind;

/// Height of a bar.
pub(crate) const BAR: f64 = 12.5;

/// Size of labels.
pub(crate) const TEXT: f64 = 11.0;

/// How a kind looks: colour, and pattern or shape.
pub(crate) struct Look {
    pub(crate) colour: &'static str,
    pub(crate) shape: Shape,
}

#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Shape {
    /// A filled bar.
    Solid,
    /// A bar with slanted lines.
    Slanted,
    /// A bar with dots.
    Dotted,
    /// An outline.
    Outline,
    /// A broken outline.
    Broken,
    /// An outline of points.
    Pointed,
    /// A filled circle.
    Circle,
    /// A diamond.
    Diamond,
    /// A triangle on its tip.
    Triangle,
    /// A square.
    Square,
}

pub(crate) fn look(kind: AllocationKind) -> Look {
    let (colour, shape) = match kind {
        AllocationKind::Pool => ("#2f5d9b", Shape::Solid),
        AllocationKind::PoolNetwork => ("#2f5d9b", Shape::Outline),
        AllocationKind::DhcpRange => ("#b8690f", Shape::Slanted),
        AllocationKind::Reservation => ("#b8690f", Shape::Diamond),
        AllocationKind::FixedAddress => ("#2f5d9b", Shape::Triangle),
        AllocationKind::Address => ("#333333", Shape::Circle),
        AllocationKind::OutsideAddress => ("#8a1f5c", Shape::Square),
        AllocationKind::NameServer => ("#0c7060", Shape::Diamond),
        AllocationKind::Translation => ("#8a1f5c", Shape::Dotted),
        AllocationKind::Network | AllocationKind::Link => ("#666666", Shape::Outline),
        AllocationKind::Remote => ("#666666", Shape::Broken),
        AllocationKind::Route => ("#666666", Shape::Pointed),
    };
    Look { colour, shape }
}

pub(crate) fn hatch(body: &mut String, pattern: &str, from: f64, to: f64, top: f64, height: f64) {
    let _ = write!(
        body,
        "<rect x=\"{from:.1}\" y=\"{top:.1}\" width=\"{:.1}\" height=\"{height:.1}\" fill=\"url(#{pattern})\" stroke=\"#000\" stroke-width=\"1\"/>",
        (to - from).max(3.0)
    );
}

/// A claim between two places, its middle at `y`. Single addresses are marks at `from`.
pub(crate) fn mark(body: &mut String, look: &Look, from: f64, to: f64, y: f64) {
    let colour = look.colour;
    let (top, wide) = (y - BAR / 2.0, (to - from).max(3.0));
    let bar = |fill: &str, more: &str| {
        format!(
            "<rect x=\"{from:.1}\" y=\"{top:.1}\" width=\"{wide:.1}\" height=\"{BAR}\" fill=\"{fill}\" stroke=\"{colour}\" stroke-width=\"1\"{more}/>"
        )
    };
    let x = if to - from > 20.0 { (from + to) / 2.0 } else { from };
    let shape = match look.shape {
        Shape::Solid => bar(colour, ""),
        Shape::Slanted => bar("url(#slanted)", ""),
        Shape::Dotted => bar("url(#dotted)", ""),
        Shape::Outline => bar("#ffffff", ""),
        Shape::Broken => bar("#ffffff", " stroke-dasharray=\"6 3\""),
        Shape::Pointed => bar("#ffffff", " stroke-dasharray=\"1.5 2.5\""),
        Shape::Circle => format!("<circle cx=\"{x:.1}\" cy=\"{y:.1}\" r=\"3.6\" fill=\"{colour}\"/>"),
        Shape::Square => format!(
            "<rect x=\"{:.1}\" y=\"{:.1}\" width=\"7\" height=\"7\" fill=\"{colour}\"/>",
            x - 3.5,
            y - 3.5
        ),
        Shape::Diamond => format!(
            "<path d=\"M{x:.1},{:.1} l4.6,4.6 l-4.6,4.6 l-4.6,-4.6 z\" fill=\"#fff\" stroke=\"{colour}\" stroke-width=\"1.8\"/>",
            y - 4.6
        ),
        Shape::Triangle => {
            format!("<path d=\"M{:.1},{:.1} h9 l-4.5,8.4 z\" fill=\"{colour}\"/>", x - 4.5, y - 4.2)
        }
    };
    body.push_str(&shape);
}
