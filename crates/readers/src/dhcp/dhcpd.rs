//! `dhcpd.conf` of the ISC DHCP server (dhcpd.conf(5)): statements that end with a semicolon, or with a block in braces.

use crate::addresses;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use ipnet::IpNet;
use serde::Deserialize;
use std::collections::BTreeSet;
use std::ops::Range;
use std::sync::Arc;
use trevlin_model::dhcp::{DhcpServer, DhcpSubnet, Reservation};
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, IpRange, Limit, LineClass, MalformedAddress, Origin, Secret, SecretRecord};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "dhcpd",
    title: "ISC DHCP server configuration",
    manual: "dhcpd.conf(5)",
    recognise,
    read,
};

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Statements {
    statements: BTreeSet<String>,
}

trevlin_model::table! { static STATEMENTS: Statements = "../../tables/dhcpd-statements.toml"; }

/// Classification of a statement without an address.
fn other(words: &[&str]) -> LineClass {
    let bare = words.first().map(|word| word.split('(').next().unwrap_or(word));
    let known = bare.is_some_and(|word| STATEMENTS.statements.contains(word));
    if known { LineClass::Ignored } else { LineClass::NotUnderstood }
}

/// Whether what follows is the record of an option's definition: `option name code 100 = {` or `… = array of {`.
fn is_record(statement: &[Token<'_>]) -> bool {
    let words: Vec<&str> = statement.iter().map(|token| token.text).collect();
    words.first() == Some(&"option") && words.contains(&"code") && matches!(words.last(), Some(&"=" | &"of"))
}

/// Message for a statement that the manual does not list.
const NO_STATEMENT: &str = "not a statement of dhcpd.conf(5); the server refuses to start";

fn recognise(export: &Export) -> Recognition {
    let tells = |line: &str| {
        if !["subnet", "shared-network", "fixed-address", "range"].iter().any(|word| line.starts_with(word)) {
            return false;
        }
        let words: Vec<&str> = line.split_whitespace().collect();
        matches!(words.as_slice(), ["subnet", _, "netmask", ..] | ["shared-network", _, "{", ..])
            || matches!(words.as_slice(), ["fixed-address" | "range" | "range6" | "range4", value, ..] if value.ends_with(';'))
            || matches!(words.as_slice(), ["subnet6", _, "{", ..])
    };
    if export.lines().take(TELLING_LINES).any(|line| tells(line.text.trim())) {
        return Recognition::Content;
    }
    let named = matches!(export.file_name(), "dhcpd.conf" | "dhcpd6.conf");
    if named { Recognition::Name } else { Recognition::No }
}

/// A word, a sign, or a text in quotes.
#[derive(Debug, Clone)]
struct Token<'a> {
    text: &'a str,
    span: Range<usize>,
}

fn tokens(text: &str) -> Vec<Token<'_>> {
    let bytes = text.as_bytes();
    let mut found = Vec::new();
    let mut at = 0;
    while let Some(byte) = bytes.get(at) {
        match byte {
            b'#' => at += bytes[at..].iter().position(|byte| *byte == b'\n').unwrap_or(bytes.len() - at),
            b'"' => {
                let start = at + 1;
                let mut end = start;
                while end < bytes.len() && bytes[end] != b'"' {
                    end += if bytes[end] == b'\\' { 2 } else { 1 };
                }
                let end = end.min(bytes.len());
                found.push(Token { text: text.get(start..end).unwrap_or_default(), span: start..end });
                at = end + 1;
            }
            b'{' | b'}' | b';' | b',' => {
                found.push(Token { text: &text[at..=at], span: at..at + 1 });
                at += 1;
            }
            _ if byte.is_ascii_whitespace() => at += 1,
            _ => {
                let ends = |byte: &u8| byte.is_ascii_whitespace() || b"{};,#\"".contains(byte);
                let end = at + bytes[at..].iter().position(ends).unwrap_or(bytes.len() - at);
                found.push(Token { text: &text[at..end], span: at..end });
                at = end;
            }
        }
    }
    found
}

/// Settings in force in a block.
#[derive(Clone, Default)]
struct Scope {
    subnet: Option<usize>,
    host: Option<String>,
    key: Option<String>,
}

struct State<'a> {
    export: &'a Export,
    around: &'a ReadContext<'a>,
    server: DhcpServer,
    secrets: Vec<Arc<SecretRecord>>,
    addresses_stated: bool,
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let all = tokens(export.text());
    let first = all.first().map_or_else(|| export.origin(0..0), |token| export.origin(token.span.clone()));
    let mut state = State {
        export,
        around,
        server: DhcpServer::new("dhcpd", export.file_name(), first),
        secrets: Vec::new(),
        addresses_stated: false,
    };
    let mut scopes = vec![Scope::default()];
    let mut statement: Vec<Token<'_>> = Vec::new();
    for token in all {
        match token.text {
            // The form of an option of one's own is in braces (dhcp-options(5), RECORDS).
            "{" if is_record(&statement) => statement.push(token),
            "}" if statement.iter().any(|one| one.text == "{") => statement.push(token),
            "{" if scopes.len() >= export.limits().of(Limit::Nesting) => {
                let rest = token.span.start..export.text().len();
                book.cut(export.origin(rest), Limit::Nesting, "nested blocks");
                statement.clear();
                scopes.truncate(1);
                break;
            }
            "{" => {
                let inner = state.opens(&statement, scopes.last().cloned().unwrap_or_default(), &mut book);
                scopes.push(inner);
                statement.clear();
            }
            "}" if scopes.len() > 1 => {
                if let Some(origin) = origin_of(export, &statement) {
                    book.not_understood(origin, "a semicolon is missing before the brace");
                }
                book.class(export.origin(token.span), LineClass::Understood);
                scopes.pop();
                statement.clear();
            }
            ";" => {
                let scope = scopes.last().cloned().unwrap_or_default();
                state.states(&statement, &scope, &mut book);
                statement.clear();
            }
            _ => statement.push(token),
        }
    }
    if let Some(origin) = origin_of(export, &statement) {
        book.not_understood(origin, "the file ends within a statement; please export it again");
    } else if scopes.len() > 1 {
        let end = export.text().trim_end().len();
        book.note(export.origin(end.saturating_sub(1)..end), "a closing brace is missing");
    }
    reading.facts.secrets.append(&mut state.secrets);
    if state.addresses_stated || !state.server.malformed.is_empty() {
        reading.facts.dhcp_servers.push(state.server);
    }
    reading
}

fn origin_of(export: &Export, statement: &[Token<'_>]) -> Option<Origin> {
    Some(export.origin(statement.first()?.span.start..statement.last()?.span.end))
}

impl State<'_> {
    /// A statement that opens a block.
    fn opens(&mut self, statement: &[Token<'_>], scope: Scope, book: &mut LineRecorder<'_>) -> Scope {
        let Some(origin) = origin_of(self.export, statement) else { return scope };
        let words: Vec<&str> = statement.iter().map(|token| token.text).collect();
        book.understood(origin);
        match words.as_slice() {
            ["subnet", address, "netmask", mask] => {
                let net = addresses::v4_with_mask(address, mask).map(IpNet::from);
                if net.is_none_or(|net| net.network().to_string() != *address) {
                    let why = addresses::what_is_wrong(&format!("{address}/{mask}"));
                    book.not_understood(origin, why.clone());
                    self.server.malformed.push(MalformedAddress { why, origin });
                }
                self.subnet(net, origin, scope)
            }
            ["subnet6", prefix] => {
                let net = addresses::take(prefix, origin, &mut self.server.malformed, addresses::prefix);
                self.subnet(net, origin, scope)
            }
            ["host", name] => Scope { host: Some((*name).to_owned()), ..scope },
            ["key", name] => Scope { key: Some((*name).to_owned()), ..scope },
            ["failover", "peer", ..] => {
                self.server.partner.get_or_insert(origin);
                scope
            }
            ["pool" | "pool6" | "group" | "shared-network", ..] => scope,
            words => {
                book.class(origin, other(words));
                if other(words) == LineClass::NotUnderstood {
                    book.note(origin, NO_STATEMENT);
                }
                scope
            }
        }
    }

    fn subnet(&mut self, network: Option<IpNet>, origin: Origin, scope: Scope) -> Scope {
        self.addresses_stated = true;
        self.server.subnets.push(DhcpSubnet::new(network, origin));
        Scope { subnet: Some(self.server.subnets.len() - 1), ..scope }
    }

    /// A scope for prefixes that are delegated, which lie outside of the subnet by design (RFC 8415, 6.3).
    fn delegated(&mut self, origin: Origin, scope: &Scope) -> Scope {
        self.subnet(None, origin, scope.clone())
    }

    /// A statement that ends with a semicolon.
    fn states(&mut self, statement: &[Token<'_>], scope: &Scope, book: &mut LineRecorder<'_>) {
        let Some(origin) = origin_of(self.export, statement) else { return };
        let words: Vec<&str> = statement.iter().map(|token| token.text).collect();
        let before = self.server.malformed.len();
        let mut class = LineClass::Understood;
        match words.as_slice() {
            ["range" | "range4" | "range6", rest @ ..] => {
                let rest: Vec<&str> = rest
                    .iter()
                    .copied()
                    .filter(|word| !matches!(*word, "dynamic-bootp" | "temporary"))
                    .collect();
                self.range(&rest, origin, scope);
            }
            ["prefix6", first, last, _] => {
                let scope = self.delegated(origin, scope);
                self.range(&[first, last], origin, &scope);
            }
            ["fixed-prefix6", prefix] => {
                let scope = self.delegated(origin, scope);
                self.range(&[prefix], origin, &scope);
            }
            ["fixed-address" | "fixed-address6", list @ ..] => {
                for token in list.iter().filter(|word| **word != ",") {
                    let parsed = addresses::take(
                        token,
                        origin,
                        &mut self.server.malformed,
                        addresses::range_or_prefix,
                    );
                    self.addresses_stated = true;
                    self.server.reservations.extend(parsed.map(|address| Reservation {
                        who: scope.host.clone().unwrap_or_else(|| "any client".into()),
                        address,
                        origin,
                    }));
                }
            }
            ["option", "routers", list @ ..] => self.told(list, origin, scope, false),
            ["option", "domain-name-servers" | "dhcp6.name-servers", list @ ..] => {
                self.told(list, origin, scope, true);
            }
            ["secret", _] => {
                let span = statement[1].span.clone();
                self.secrets.push(Arc::new(SecretRecord {
                    secret: Secret::new(words[1]),
                    kind: SecretKind::SharedKey,
                    owner: format!("key {}", scope.key.as_deref().unwrap_or_default()),
                    origin: self.export.origin(span),
                }));
            }
            ["failover", "peer", ..] => {
                self.server.partner.get_or_insert(origin);
            }
            ["include", path] => {
                if let Some(why) = self.around.missing_include(path, self.export) {
                    book.note(origin, why);
                }
            }
            words => class = other(words),
        }
        book.class(origin, class);
        if class == LineClass::NotUnderstood {
            book.note(origin, NO_STATEMENT);
        }
        for bad in &self.server.malformed[before..] {
            book.not_understood(bad.origin, bad.why.clone());
        }
    }

    fn subnet_at(&mut self, scope: &Scope, origin: Origin) -> &mut DhcpSubnet {
        let at = scope.subnet.unwrap_or_else(|| {
            self.server.subnets.push(DhcpSubnet::new(None, origin));
            self.server.subnets.len() - 1
        });
        &mut self.server.subnets[at]
    }

    fn range(&mut self, words: &[&str], origin: Origin, scope: &Scope) {
        let text = match words {
            [one] => (*one).to_owned(),
            [first, last, ..] => format!("{first}-{last}"),
            [] => return,
        };
        self.addresses_stated = true;
        let range = addresses::take(&text, origin, &mut self.server.malformed, addresses::range_or_prefix);
        let subnet = self.subnet_at(scope, origin);
        subnet.ranges.extend(range.map(|range: IpRange| (range, origin)));
    }

    fn told(&mut self, list: &[&str], origin: Origin, scope: &Scope, name_server: bool) {
        let words = list.iter().filter(|word| **word != ",");
        let malformed = &mut self.server.malformed;
        let told: Vec<_> = words
            .filter_map(|word| addresses::take(word, origin, malformed, addresses::single))
            .map(|told| (told, origin))
            .collect();
        let subnet = self.subnet_at(scope, origin);
        let known = if name_server { &mut subnet.name_servers } else { &mut subnet.routers };
        known.extend(told);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn server(text: &str) -> (Option<DhcpServer>, Reading) {
        let export = Export::new(ExportId(0), "d/etc/dhcp/dhcpd.conf", text.into());
        let mut reading = read(&export, &ReadContext::default());
        (reading.facts.dhcp_servers.pop(), reading)
    }

    #[test]
    fn records_and_functions() {
        let text = "option own.pair code 1 = { boolean, unsigned integer 8 };\noption own.many code 2 = array of { text };\n\
                    on commit { log(info, \"x\"); }\nsubnet 10.4.0.0 netmask 255.255.255.0 { range 10.4.0.9; }\n";
        let export = Export::new(ExportId(0), "d/etc/dhcp/dhcpd.conf", text.into());
        let reading = read(&export, &ReadContext::of(vec![&export]));
        assert!(reading.ledger.notes.is_empty(), "{:?}", reading.ledger.notes);
        assert_eq!(reading.facts.dhcp_servers[0].subnets.len(), 1);
    }

    #[test]
    fn subnets_ranges_and_hosts() {
        let text = "# harbour\noption domain-name-servers 10.4.0.53, ns.example;\nsubnet 10.4.0.0 netmask 255.255.255.0 {\n  \
                    option routers 10.4.0.1;\n  pool {\n    range 10.4.0.50 10.4.0.99;\n    range dynamic-bootp 10.4.0.120;\n  }\n}\n\
                    group { host lamp { hardware ethernet 02:00:5e:10:00:20; fixed-address 10.4.0.60; } }\n";
        let (server, reading) = server(text);
        let server = server.unwrap();
        let net = &server.subnets[1];
        assert_eq!(net.network.unwrap().to_string(), "10.4.0.0/24");
        let ranges: Vec<_> = net.ranges.iter().map(|(range, _)| range.to_string()).collect();
        assert_eq!(ranges, ["10.4.0.50-10.4.0.99", "10.4.0.120"]);
        assert_eq!(net.routers[0].0.to_string(), "10.4.0.1");
        assert_eq!(server.subnets[0].name_servers.len(), 1);
        assert_eq!(
            (server.reservations[0].who.as_str(), server.reservations[0].address.to_string().as_str()),
            ("lamp", "10.4.0.60")
        );
        assert!(!server.keeps_reserved && server.partner.is_none());
        assert_eq!(reading.ledger.count(LineClass::NotUnderstood), 0);
    }

    #[test]
    fn mistakes_and_secrets() {
        let (mistaken, reading) = server(
            "key up { algorithm hmac-sha256; secret c2VzYW1l; }\nsubnet 10.4.0.7 netmask 255.255.255.0 { range 10.4.0.99 10.4.0.9; \
             range 10.4.0.300; }\nfailover peer \"x\" { primary; }\nsubnet 10.5.0.0 netmask 255.255.255.0 { range 10.5.0.9",
        );
        let mistaken = mistaken.unwrap();
        assert_eq!(mistaken.malformed.len(), 3);
        assert!(mistaken.partner.is_some());
        assert_eq!(reading.facts.secrets.len(), 1);
        assert!(!format!("{reading:?}").contains("c2VzYW1l"));
        assert!(
            reading
                .ledger
                .notes
                .iter()
                .any(|note| note.text.contains("the file ends within a statement; please export it again"))
        );
        // A file as shipped by packages configures nothing.
        assert!(server("option domain-name \"example.org\";\ndefault-lease-time 600;\n").0.is_none());
    }
}
