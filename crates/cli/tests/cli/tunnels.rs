//! The tunnels command.

use crate::common::{demo, folder, run};

#[test]
fn the_table_fits_its_width_and_is_as_it_was() {
    let demo = demo();
    let (out, err, status) = run(&["tunnels", demo.to_str().unwrap()]);
    assert_eq!((status, err.as_str()), (0, ""));
    assert!(out.lines().all(|line| line.chars().count() <= 120));
    insta::assert_snapshot!(out);
}

#[test]
fn everything_of_one() {
    let demo = demo();
    let demo = demo.to_str().unwrap();
    let (out, _, status) = run(&["tunnels", demo, "--detail", "workshop.conf"]);
    assert_eq!(status, 0);
    for part in [
        "BF-CBC for data",
        "does not verify the server certificate",
        "workshop.conf:13",
        "verdict",
        "up to 2.5",
    ] {
        assert!(out.contains(part), "{part}: {out}");
    }
    let (_, err, status) = run(&["tunnels", demo, "--detail", "nowhere"]);
    assert_eq!(status, 2);
    assert!(err.contains("there is no tunnel with `nowhere`") && err.contains("desks.conf"), "{err}");
}

#[test]
fn rows_for_other_programs() {
    let files = folder(&[
        (
            "d/s.conf",
            "dev tun\nserver 10.8.0.0 255.255.255.0\ndata-ciphers AES-256-GCM\n#data-ciphers BF-CBC\n",
        ),
        (
            "e/ipsec.conf",
            "conn %default\n\tike=3des-md5-modp768\n\tesp=aes256-sha256-ecp256!\nconn off\n\tauto=ignore\nconn on\n\tauto=add\n\tike=aes256-sha256-ecp256!\n",
        ),
    ]);
    let (out, err, status) = run(&["tunnels", files.path().to_str().unwrap(), "--format", "json"]);
    assert_eq!(status, 0, "{err}");
    let document: serde_json::Value = serde_json::from_str(&out).unwrap();
    assert_eq!(document["schema"], "trevlin-tunnels/1");
    let told: Vec<_> = document["tunnels"]
        .as_array()
        .unwrap()
        .iter()
        .map(|row| format!("{} {}", row["name"].as_str().unwrap(), row["weakest"].as_str().unwrap()))
        .collect();
    // Comments, disabled statements and overridden ones are ignored.
    assert_eq!(
        told,
        [
            "OpenVPN server (s.conf) AES-GCM, 256 bits (recommended)",
            "IPsec connection on AES-CBC, 256 bits (acceptable)",
        ]
    );
}
