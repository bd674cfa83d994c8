//! What is in the sites' folders, for findings: files that visitors may have, and what pages say and lead to.

use super::exposure::{Walked, walk};
use super::on_disk::OnDisk;
use exedra_acting::findings::html;
use exedra_acting::findings::inventory::{FileSeen, Inventory, PageSeen};
use exedra_answering::config::SiteId;
use exedra_reading::classify::paths::{Kind, kind};
use std::io::Read;

/// The largest page that is read, and how much of all of them together.
const LARGEST: u64 = 512 << 10;
const MOST: u64 = 48 << 20;

/// Walks a site's folder as a stranger would: its inventory, and what should not be reachable.
pub fn inventory(disk: &OnDisk<'_>, id: SiteId, goes_on: &dyn Fn() -> bool) -> (Inventory, Walked) {
    let walked = walk(disk, id, goes_on);
    let site = disk.config.site(id);
    let mut inventory = Inventory { is_cut: walked.is_cut, ..Inventory::default() };
    let mut left = MOST;
    for file in &walked.seen {
        let name = file.path.rsplit('/').next().unwrap_or_default();
        let is_index = site.index.first().is_some_and(|index| index == name);
        let address = match is_index {
            true => file.address[..=file.address.rfind('/').unwrap_or(0)].to_owned(),
            false => file.address.clone(),
        };
        let is_page = kind(&file.address) == Kind::Page && file.bytes <= LARGEST;
        if is_page && file.bytes <= left {
            left -= file.bytes;
            if let Some(text) = read(&file.place) {
                let text = html::read(&text);
                inventory.pages.push(PageSeen { address: address.clone(), file: file.path.clone(), text });
            }
        } else if is_page {
            inventory.is_cut = true;
        }
        inventory.files.push(FileSeen { address, bytes: file.bytes });
    }
    (inventory, walked)
}

fn read(place: &std::path::Path) -> Option<String> {
    let mut octets = Vec::new();
    std::fs::File::open(place).ok()?.take(LARGEST).read_to_end(&mut octets).ok()?;
    Some(String::from_utf8_lossy(&octets).into_owned())
}
