//! A small made-up file of countries in the open MMDB format: whole documentation ranges, each in one country.
//!
//! The format is a binary tree over the bits of an address, then the records that its leaves point to, then what
//! describes the file, itself written like a record.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// Ranges of the demo's clients: address, length of the network, country (ISO 3166-1).
pub const RANGES: [(IpAddr, u8, &str); 5] = [
    (IpAddr::V4(Ipv4Addr::new(192, 0, 2, 0)), 24, "IS"),
    (IpAddr::V4(Ipv4Addr::new(198, 51, 100, 0)), 24, "DK"),
    (IpAddr::V4(Ipv4Addr::new(203, 0, 113, 0)), 24, "FO"),
    (IpAddr::V4(Ipv4Addr::new(198, 18, 0, 0)), 15, "NO"),
    (IpAddr::V6(Ipv6Addr::new(0x2001, 0xdb8, 0, 0, 0, 0, 0, 0)), 32, "FO"),
];

/// What the description of a file begins with.
const MARK: [u8; 14] = [0xab, 0xcd, 0xef, 0x4d, 0x61, 0x78, 0x4d, 0x69, 0x6e, 0x64, 0x2e, 0x63, 0x6f, 0x6d];
/// Octets between the tree and the records, all zero.
const GAP: usize = 16;

/// Where a bit of an address leads.
#[derive(Clone, Copy)]
enum Record {
    Nowhere,
    Node(u32),
    Country(u32),
}

/// Makes a file that knows some ranges.
pub fn made(ranges: &[(IpAddr, u8, &str)]) -> Vec<u8> {
    let mut records = Vec::new();
    let mut nodes = vec![[Record::Nowhere; 2]];
    for (address, length, country) in ranges {
        // Addresses of the older kind stand at the beginning of the newer one's.
        let (bits, length) = match address {
            IpAddr::V4(address) => (u128::from(u32::from(*address)), u32::from(*length) + 96),
            IpAddr::V6(address) => (u128::from(*address), u32::from(*length)),
        };
        let offset = records.len() as u32;
        map(&mut records, 1);
        text(&mut records, "country");
        map(&mut records, 1);
        text(&mut records, "iso_code");
        text(&mut records, country);
        let mut node = 0;
        for depth in 0..length {
            let bit = (bits >> (127 - depth) & 1) as usize;
            if depth + 1 == length {
                nodes[node][bit] = Record::Country(offset);
            } else {
                let next = match nodes[node][bit] {
                    Record::Node(next) => next,
                    Record::Nowhere | Record::Country(_) => {
                        nodes.push([Record::Nowhere; 2]);
                        nodes.len() as u32 - 1
                    }
                };
                nodes[node][bit] = Record::Node(next);
                node = next as usize;
            }
        }
    }
    let count = nodes.len() as u32;
    let mut file = Vec::new();
    for record in nodes.iter().flatten() {
        let value = match *record {
            Record::Nowhere => count,
            Record::Node(node) => node,
            Record::Country(offset) => count + GAP as u32 + offset,
        };
        file.extend_from_slice(&value.to_be_bytes());
    }
    file.extend_from_slice(&[0; GAP]);
    file.extend_from_slice(&records);
    file.extend_from_slice(&MARK);
    describe(&mut file, count);
    file
}

fn describe(out: &mut Vec<u8>, nodes: u32) {
    map(out, 9);
    for (name, value) in [
        ("binary_format_major_version", 2),
        ("binary_format_minor_version", 0),
        ("ip_version", 6),
        ("record_size", 32),
    ] {
        text(out, name);
        out.push(0b101_00010);
        out.extend_from_slice(&u16::to_be_bytes(value));
    }
    text(out, "node_count");
    out.push(0b110_00100);
    out.extend_from_slice(&nodes.to_be_bytes());
    text(out, "build_epoch");
    out.extend_from_slice(&[0b000_01000, 2]);
    out.extend_from_slice(&1_893_456_000u64.to_be_bytes());
    text(out, "database_type");
    text(out, "Port Lindry, made up");
    text(out, "languages");
    out.extend_from_slice(&[0b000_00001, 4]);
    text(out, "en");
    text(out, "description");
    map(out, 1);
    text(out, "en");
    text(out, "Countries of documentation ranges, all invented");
}

/// The beginning of a map of so many pairs.
fn map(out: &mut Vec<u8>, pairs: u8) {
    out.push(0b111_00000 | pairs);
}

fn text(out: &mut Vec<u8>, text: &str) {
    let length = text.len();
    match u8::try_from(length) {
        Ok(short) if short < 29 => out.push(0b010_00000 | short),
        _ => out.extend_from_slice(&[0b010_11101, u8::try_from(length - 29).unwrap_or(u8::MAX)]),
    }
    out.extend_from_slice(text.as_bytes());
}
