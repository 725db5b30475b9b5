//! Hostile archives: overlapping zip entries, holes, duplicate names, joined and truncated archives. The output stays in proportion to the
//! input, and the entries before a truncation are kept.

#![no_main]

use trevlin_model::Limits;
use trevlin_readers::archive::unpack;

/// Bytes that any archive may expand to, and the maximum expansion factor (docs/limits.md).
const FREE: usize = 1 << 20;
const RATIO: usize = 200;

/// A number of the input, or none once there is no more.
fn take(data: &mut &[u8]) -> Option<usize> {
    let (first, rest) = data.split_first()?;
    *data = rest;
    Some(usize::from(*first))
}

/// A zip of stored entries, whose directory may point anywhere.
fn zip(mut data: &[u8]) -> (Vec<u8>, bool) {
    let (mut out, mut directory, mut places) = (Vec::new(), Vec::new(), Vec::new());
    let count = 1 + take(&mut data).unwrap_or(0) % 12;
    for number in 0..count {
        let length = take(&mut data).unwrap_or(7) * 4;
        let name = format!("f{number}");
        let body = vec![b'a' + number as u8; length];
        // CRC-32 is left at 0 where it is not verified: incomplete entries are rejected, and must not cost more.
        let fixed = |offset: Option<u32>| {
            let mut head: Vec<u8> = Vec::new();
            match offset {
                None => head.extend(b"PK\x03\x04\x14\0"),
                Some(_) => head.extend(b"PK\x01\x02\x14\0\x14\0"),
            }
            head.extend([0; 4]);
            head.extend([0, 0, 0x21, 0]);
            head.extend(crc(&body).to_le_bytes());
            head.extend((length as u32).to_le_bytes());
            head.extend((length as u32).to_le_bytes());
            head.extend((name.len() as u16).to_le_bytes());
            head.extend([0; 2]);
            if let Some(offset) = offset {
                head.extend([0; 10]);
                head.extend(offset.to_le_bytes());
            }
            head.extend(name.bytes());
            head
        };
        let own = out.len();
        places.push(own);
        out.extend(fixed(None));
        out.extend(&body);
        // To its own place, or to that of another.
        let other = match take(&mut data) {
            Some(one) if one > 200 => places[one % places.len()],
            _ => own,
        };
        directory.push((fixed(Some(other as u32)), other != own));
    }
    let start = out.len() as u32;
    directory.iter().for_each(|(entry, _)| out.extend(entry));
    let size = out.len() as u32 - start;
    out.extend(b"PK\x05\x06\0\0\0\0");
    out.extend((count as u16).to_le_bytes());
    out.extend((count as u16).to_le_bytes());
    out.extend(size.to_le_bytes());
    out.extend(start.to_le_bytes());
    out.extend([0; 2]);
    (out, directory.iter().any(|(_, overlaps)| *overlaps))
}

/// CRC-32 (ISO 3309), a bit at a time.
fn crc(bytes: &[u8]) -> u32 {
    let step = |crc: u32, byte: &u8| {
        (0..8).fold(crc ^ u32::from(*byte), |crc, _| (crc >> 1) ^ (0xedb8_8320 & (crc & 1).wrapping_neg()))
    };
    !bytes.iter().fold(!0, step)
}

/// A block that begins an entry of a tar (POSIX.1-2017, pax, "ustar Interchange Format").
fn header(name: &str, kind: u8, size: usize, target: &str) -> Vec<u8> {
    let mut block = vec![0; 512];
    block[..name.len()].copy_from_slice(name.as_bytes());
    block[100..107].copy_from_slice(b"0000644");
    block[124..135].copy_from_slice(format!("{size:011o}").as_bytes());
    block[156] = kind;
    block[157..157 + target.len()].copy_from_slice(target.as_bytes());
    block[257..263].copy_from_slice(b"ustar\0");
    let sum: u32 = block.iter().map(|byte| u32::from(*byte)).sum::<u32>() + 8 * u32::from(b' ');
    block[148..156].copy_from_slice(format!("{sum:06o}\0 ").as_bytes());
    block
}

/// A tar of files and second names; where each file ends, and how many there are until then.
fn tar(mut data: &[u8]) -> (Vec<u8>, Vec<(usize, usize)>) {
    let (mut out, mut ends) = (Vec::new(), Vec::new());
    for number in 0..1 + take(&mut data).unwrap_or(0) % 24 {
        let kind = take(&mut data).unwrap_or(0);
        if kind > 150 && number > 0 {
            out.extend(header(&format!("n{number}"), b'1', 0, "f0"));
        } else {
            let size = if kind > 100 { kind * 400 } else { kind };
            out.extend(header(&format!("f{number}"), b'0', size, ""));
            out.extend(vec![b'x'; size]);
            out.resize(out.len().next_multiple_of(512), 0);
        }
        ends.push((out.len(), number + 1));
    }
    out.resize(out.len() + 1024, 0);
    (out, ends)
}

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    let [how, at, more, rest @ ..] = data else { return };
    let limits = Limits::default();
    if how % 2 == 0 {
        let (bytes, overlap) = zip(rest);
        let found = unpack("a.zip", &bytes, &limits).expect("a zip");
        let total: usize = found.files.values().map(|bytes| bytes.len()).sum();
        assert!(total <= bytes.len(), "{total} of {}", bytes.len());
        assert!(
            !overlap || found.files.is_empty(),
            "entries over one another are refused: {:?}",
            found.left_out
        );
        assert!(!found.left_out.is_empty() || !found.files.is_empty());
        return;
    }
    let (bytes, ends) = tar(rest);
    let found = unpack("a.tar", &bytes, &limits).expect("a tar");
    let total: usize = found.files.values().map(|bytes| bytes.len()).sum();
    assert!(total <= (bytes.len() * RATIO).max(FREE), "{total} of {}", bytes.len());
    // Joined with itself it has the same files; cut, those before the cut, and it is said.
    let twice = unpack("a.tar", &[bytes.as_slice(), &bytes].concat(), &limits).expect("a tar");
    assert_eq!(found.files.len(), twice.files.len());
    let cut = (usize::from(*at) << 8 | usize::from(*more)) % bytes.len();
    let Some(part) = unpack("a.tar", &bytes[..cut], &limits) else { return };
    let whole = ends.iter().rev().find(|(end, _)| *end <= cut).map_or(0, |(_, count)| *count);
    let refused = found.left_out.len();
    assert!(
        part.files.len() + refused >= whole,
        "{} of {whole} at {cut}: {:?}",
        part.files.len(),
        part.left_out
    );
    assert!(cut + 512 > bytes.len() || !part.left_out.is_empty(), "nothing is said of a cut at {cut}");
    for (path, bytes) in &part.files {
        assert_eq!(found.files.get(path), Some(bytes));
    }
});
