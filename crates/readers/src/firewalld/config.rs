//! Content of the files, before it becomes rules.

use super::{FileKind, kind};
use crate::xml::Source;
use roxmltree::Node;
use serde::Deserialize;
use std::collections::BTreeMap;
use trevlin_model::{Export, LineClass, Origin};

/// Zones and services that firewalld ships.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Shipped {
    pub(super) service: BTreeMap<String, Vec<String>>,
    pub(super) zone: BTreeMap<String, ShippedZone>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct ShippedZone {
    target: Option<String>,
    #[serde(default)]
    services: Vec<String>,
    #[serde(default)]
    masquerade: bool,
    #[serde(default)]
    forward: bool,
}

trevlin_model::table! { pub(super) static SHIPPED: Shipped = "../../tables/firewalld.toml"; }

/// An element of a zone, a policy, a service or a rich rule, with its attributes and nested elements.
#[derive(Debug, Clone)]
pub(super) struct Element {
    pub(super) name: String,
    pub(super) attributes: BTreeMap<String, String>,
    pub(super) inner: Vec<Element>,
    pub(super) origin: Origin,
}

impl Element {
    pub(super) fn get(&self, name: &str) -> &str {
        self.attributes.get(name).map_or("", String::as_str)
    }

    pub(super) fn child(&self, name: &str) -> Option<&Self> {
        self.inner.iter().find(|one| one.name == name)
    }

    /// One that no file states.
    fn made(name: &str, key: &str, value: &str, origin: Origin) -> Self {
        let attributes = BTreeMap::from([(key.to_owned(), value.to_owned())]);
        Self { name: name.to_owned(), attributes, inner: Vec::new(), origin }
    }
}

/// A zone or a policy: both have a target and elements.
#[derive(Debug, Clone)]
pub(super) struct Part {
    pub(super) name: String,
    pub(super) target: String,
    pub(super) priority: i32,
    pub(super) elements: Vec<Element>,
    pub(super) origin: Origin,
}

impl Part {
    pub(super) fn each<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a Element> {
        self.elements.iter().filter(move |one| one.name == name)
    }
}

/// Content of all files of a device.
#[derive(Debug, Default)]
pub(super) struct Config {
    pub(super) zones: BTreeMap<String, Part>,
    pub(super) policies: Vec<Part>,
    pub(super) services: BTreeMap<String, Vec<Element>>,
    pub(super) sets: BTreeMap<String, Vec<String>>,
    pub(super) default_zone: String,
    /// Files with rules that are handed to the kernel as they are.
    pub(super) direct: Vec<Origin>,
    pub(super) classes: Vec<(Origin, LineClass)>,
    pub(super) notes: Vec<(Origin, String)>,
}

impl Config {
    pub(super) fn of(files: &[&Export]) -> Self {
        let mut config = Self { default_zone: "public".into(), ..Self::default() };
        for file in files {
            match kind(file) {
                Some(FileKind::Settings) => config.settings(file),
                Some(FileKind::Other) => {}
                Some(kind) => config.xml(file, kind),
                None => {}
            }
        }
        config.default_of_shipped();
        config
    }

    fn settings(&mut self, file: &Export) {
        if !file.ends_with_line() {
            self.notes.push((file.last_line(), "the file is truncated; please export it again".into()));
        }
        for line in file.lines() {
            let Some((name, value)) = line.text.split_once('=') else { continue };
            if name.trim_start().starts_with('#') {
                continue;
            }
            let known =
                matches!(name.trim(), "DefaultZone" | "FirewallBackend" | "IPv6_rpfilter" | "RFC3964_IPv4");
            if name.trim() == "DefaultZone" {
                value.trim().clone_into(&mut self.default_zone);
            }
            let class = if known { LineClass::Understood } else { LineClass::Ignored };
            self.classes.push((file.origin_of(line.text), class));
        }
    }

    fn xml(&mut self, file: &Export, kind: FileKind) {
        let source = Source::of(file);
        if let Some((rest, why)) = source.fault() {
            self.classes.push((rest, LineClass::NotUnderstood));
            self.notes.push((rest, why.to_owned()));
        }
        let Some(document) = source.document() else { return };
        let root = document.root_element();
        let name = file.file_name().strip_suffix(".xml").unwrap_or(file.file_name()).to_owned();
        let head = head_of(&source, root);
        self.classes.push((head, LineClass::Understood));
        // Only names and descriptions are text.
        let text = root.descendants().find(|node| {
            let parent = node.parent().map_or("", |parent| parent.tag_name().name());
            node.text().is_some_and(|text| !text.trim().is_empty())
                && node.is_text()
                && !["short", "description", "entry", "option"].contains(&parent)
        });
        if let Some(node) = text {
            let origin = source.origin(node.range());
            self.classes.push((origin, LineClass::NotUnderstood));
            self.notes.push((origin, "text was found where an element was expected".into()));
        }
        let elements: Vec<Element> = root
            .children()
            .filter(|node| node.is_element() && kind != FileKind::Direct)
            .filter_map(|node| self.element(&source, node, kind, 0))
            .collect();
        let attribute = |name: &str| root.attribute(name).unwrap_or_default().to_owned();
        match kind {
            FileKind::Zone | FileKind::Policy => {
                let part = Part {
                    name: name.clone(),
                    target: attribute("target"),
                    priority: attribute("priority").parse().unwrap_or(-1),
                    elements,
                    origin: head,
                };
                if kind == FileKind::Zone {
                    self.zones.insert(name, part);
                } else {
                    self.policies.retain(|one| one.name != part.name);
                    self.policies.push(part);
                }
            }
            FileKind::Service => {
                self.services.insert(name, elements);
            }
            FileKind::IpSet => {
                let entries = root.children().filter(|node| node.has_tag_name("entry"));
                let entries = entries.filter_map(|node| node.text()).map(|text| text.trim().to_owned());
                self.sets.insert(name, entries.collect());
            }
            FileKind::Direct => {
                if root.children().any(|node| node.is_element()) {
                    self.direct.push(head);
                }
            }
            FileKind::Settings | FileKind::Other => {}
        }
    }

    fn element(
        &mut self,
        source: &Source<'_>,
        node: Node<'_, '_>,
        kind: FileKind,
        depth: usize,
    ) -> Option<Element> {
        const PASSED: [&str; 2] = ["short", "description"];
        const KNOWN: [&str; 33] = [
            "interface",
            "source",
            "service",
            "port",
            "protocol",
            "source-port",
            "icmp-block",
            "icmp-block-inversion",
            "masquerade",
            "forward-port",
            "forward",
            "rule",
            "ingress-zone",
            "egress-zone",
            "destination",
            "accept",
            "reject",
            "drop",
            "mark",
            "log",
            "nflog",
            "audit",
            "limit",
            "icmp-type",
            "include",
            "helper",
            "module",
            "entry",
            "option",
            "tcp-mss-clamp",
            "short",
            "description",
            "priority",
        ];
        let name = node.tag_name().name();
        // The missing part of a rule would change its meaning.
        if !source.holds(node.range()) {
            self.classes.push((source.origin(node.range()), LineClass::NotUnderstood));
            return None;
        }
        if PASSED.contains(&name) {
            return None;
        }
        if !KNOWN.contains(&name) || depth > 3 {
            let what = if kind == FileKind::Service { "service" } else { "zone or policy" };
            self.notes.push((head_of(source, node), format!("`{name}` is not an element of a {what}")));
            return None;
        }
        let origin = source.origin(node.range());
        self.classes.push((origin, LineClass::Understood));
        let inner = node.children().filter(Node::is_element);
        let inner = inner.filter_map(|child| self.element(source, child, kind, depth + 1)).collect();
        let attributes =
            node.attributes().map(|one| (one.name().to_owned(), one.value().to_owned())).collect();
        Some(Element { name: name.to_owned(), attributes, inner, origin })
    }

    /// The default zone, and those that policies name, where the export has no file for them.
    fn default_of_shipped(&mut self) {
        let Some(origin) = self.zones.values().chain(&self.policies).map(|part| part.origin).next() else {
            return;
        };
        let name = self.default_zone.clone();
        if self.zones.contains_key(&name) {
            return;
        }
        let Some(shipped) = SHIPPED.zone.get(&name) else {
            self.notes.push((
                origin,
                format!("the default zone {name} is not among the exports; what it permits is not known"),
            ));
            return;
        };
        let mut elements: Vec<Element> = shipped
            .services
            .iter()
            .map(|service| Element::made("service", "name", service, origin))
            .collect();
        elements.extend(shipped.masquerade.then(|| Element::made("masquerade", "", "", origin)));
        elements.extend(shipped.forward.then(|| Element::made("forward", "", "", origin)));
        let target = shipped.target.clone().unwrap_or_default();
        self.zones.insert(name.clone(), Part { name, target, priority: 0, elements, origin });
    }
}

/// The opening of an element.
fn head_of(source: &Source<'_>, node: Node<'_, '_>) -> Origin {
    source.opening(node.range())
}
