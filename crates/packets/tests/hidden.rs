//! Whose source a device hides on the way out, over rules as iptables and nft write them.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use trevlin_model::{Export, ExportId, Filter, IpRange};
use trevlin_packets::Holds;
use trevlin_packets::hidden::{Leaving, hides_source};
use trevlin_readers::{ReadContext, recognise};

fn filters(name: &str, text: &str) -> Vec<Filter> {
    let export = Export::new(ExportId(0), name, text.into());
    let around = ReadContext::of(vec![&export]);
    (recognise(&export).reader.unwrap().read)(&export, &around).facts.filters
}

#[test]
fn the_first_translation_that_is_met_holds() {
    let sources: IpRange = IpRange::from("10.88.0.0/24".parse::<ipnet::IpNet>().unwrap());
    for (rules, interface, wanted) in [
        ("-A POSTROUTING -o eth0 -j MASQUERADE", Some("eth0"), Holds::Yes),
        ("-A POSTROUTING -o eth0 -j MASQUERADE", Some("eth1"), Holds::No),
        // By which interface is not known: by one of them.
        ("-A POSTROUTING -o eth0 -j MASQUERADE", None, Holds::Yes),
        ("-A POSTROUTING -s 10.88.0.128/25 -j SNAT --to-source 192.0.2.9", Some("eth0"), Holds::Yes),
        ("-A POSTROUTING ! -s 10.88.0.0/16 -j MASQUERADE", Some("eth0"), Holds::No),
        ("-A POSTROUTING -s 10.88.0.0/24 -j RETURN\n-A POSTROUTING -j MASQUERADE", Some("eth0"), Holds::No),
        ("-A POSTROUTING -d 10.0.0.0/8 -j ACCEPT\n-A POSTROUTING -j MASQUERADE", Some("eth0"), Holds::Yes),
        ("-A POSTROUTING -j NETMAP --to 10.99.0.0/24", Some("eth0"), Holds::Yes),
        ("-A POSTROUTING -m unheard --of 1 -j MASQUERADE", Some("eth0"), Holds::Perhaps),
        ("-A POSTROUTING -j OUT\n-A OUT -s 10.77.0.0/24 -j MASQUERADE", Some("eth0"), Holds::No),
        ("-A POSTROUTING -j OUT\n-A OUT -s 10.0.0.0/8 -j MASQUERADE", Some("eth0"), Holds::Yes),
        ("-A POSTROUTING -s 10.88.0.0/24 -j OUT\n-A OUT -o eth3 -j MASQUERADE", Some("eth0"), Holds::No),
        // A goto ends the way through the chain that it leaves.
        ("-A POSTROUTING -g OUT\n-A POSTROUTING -j MASQUERADE", Some("eth0"), Holds::No),
    ] {
        let text = format!("*nat\n:POSTROUTING ACCEPT [0:0]\n:OUT - [0:0]\n{rules}\nCOMMIT\n");
        let found = filters("iptables-save.txt", &text);
        let tables: Vec<&Filter> = found.iter().collect();
        assert_eq!(hides_source(&tables, &[], &Leaving { sources, interface }), wanted, "{rules}");
    }
    // A chain for filtering translates nothing, whatever its hook.
    let text = "table inet t {\n chain a { type filter hook postrouting priority 0; ip saddr 10.88.0.0/24 accept; }\n \
                chain b { type nat hook postrouting priority 100; oifname \"eth0\" masquerade; }\n}\n";
    let found = filters("nft-list-ruleset.txt", text);
    let tables: Vec<&Filter> = found.iter().collect();
    for (interface, wanted) in [("eth0", Holds::Yes), ("eth1", Holds::No)] {
        let leaving = Leaving { sources, interface: Some(interface) };
        assert_eq!(hides_source(&tables, &[], &leaving), wanted, "{interface}");
    }
}
