//! What follows from paths, referrers and agents, whatever strangers write there.

use exedra_common::DerivedColumn;
use exedra_common::columns::Derive;
use exedra_reading::classify::Classifier;
use exedra_reading::classify::agents::{is_program, read};
use exedra_reading::classify::paths::{Kind, extension, is_probe, is_style_or_script, kind};
use exedra_reading::classify::referrers::{host, search_phrase};
use exedra_reading::logs::mask::{masked, network};
use proptest::prelude::*;
use rstest::rstest;
use std::net::IpAddr;

#[rstest]
#[case("/", Kind::Page)]
#[case("/tides/", Kind::Page)]
#[case("/tides/today.HTML", Kind::Page)]
#[case("/about", Kind::Page)]
#[case("/robots.txt", Kind::Page)]
#[case("/harbour.css", Kind::Asset)]
#[case("/fonts/face.woff2", Kind::Asset)]
#[case("/chart.pdf", Kind::Download)]
#[case("/audio/tour.wav", Kind::Download)]
#[case("/news.rss", Kind::Feed)]
#[case("/feed", Kind::Feed)]
#[case("/a.unheardof", Kind::Other)]
fn kinds_of_paths(#[case] path: &str, #[case] expected: Kind) {
    assert_eq!(kind(path), expected, "{path}");
}

proptest! {
    #[test]
    fn a_kind_depends_on_the_last_name_alone(folder in "(/[a-z]{1,5}){0,3}", name in "[a-z]{1,6}(\\.[a-z0-9]{1,5})?") {
        let path = format!("{folder}/{name}");
        prop_assert_eq!(kind(&path), kind(&format!("/{name}")));
        prop_assert_eq!(extension(&path), name.split_once('.').map(|(_, end)| end.to_owned()));
        prop_assert!(!is_style_or_script(&path) || kind(&path) == Kind::Asset);
        prop_assert_eq!(kind(&path.to_uppercase()), kind(&path), "servers differ about capitals, kinds do not");
    }

    #[test]
    fn nothing_in_a_path_makes_it_stumble(path in "\\PC{0,40}") {
        let name = kind(&path).name();
        prop_assert!(Kind::ALL.iter().any(|kind| kind.name() == name));
        prop_assert!(extension(&path).is_none_or(|end| end.len() <= 12 && end.bytes().all(|octet| octet.is_ascii_alphanumeric())));
        is_probe(&path);
    }

    #[test]
    fn the_host_of_a_referrer_is_what_stands_behind_the_scheme(
        scheme in "https?",
        name in "[a-zA-Z]{1,8}(\\.[a-zA-Z]{1,6}){0,2}",
        user in prop::option::of("[a-z]{1,5}"),
        port in prop::option::of(1u16..),
        path in "(/[a-z]{0,5}){0,3}(\\?[a-z=&]{0,8})?",
    ) {
        let user = user.map(|user| format!("{user}@")).unwrap_or_default();
        let port = port.map(|port| format!(":{port}")).unwrap_or_default();
        let referrer = format!("{scheme}://{user}{name}{port}{path}");
        prop_assert_eq!(host(&referrer), Some(name.to_ascii_lowercase()), "{}", referrer);
    }

    #[test]
    fn what_was_searched_for_is_bounded_and_has_no_control_characters(words in "\\PC{0,300}", parameter in prop::sample::select(vec!["q", "query", "text"])) {
        let encoded: String = words.bytes().map(|octet| format!("%{octet:02X}")).collect();
        let found = search_phrase(&format!("https://search.example/?x=1&{parameter}={encoded}"));
        if let Some(phrase) = found {
            prop_assert!(!phrase.is_empty() && phrase.chars().count() <= 200);
            prop_assert!(!phrase.chars().any(char::is_control) && phrase.trim() == phrase);
        } else {
            prop_assert!(words.trim().is_empty() || words.chars().all(|letter| letter.is_whitespace() || letter.is_control()));
        }
    }

    #[test]
    fn nothing_in_an_agent_makes_it_stumble(agent in "\\PC{0,1500}") {
        let told = read(&agent);
        prop_assert_eq!(told.crawler.is_some(), is_program(&agent));
        // Whoever is a program has no browser, and whoever is a person has a device.
        prop_assert_eq!(told.crawler.is_some(), told.device.is_none());
        prop_assert!(told.crawler.is_none() || told.browser.is_none());
        prop_assert!(std::sync::Arc::ptr_eq(&told, &read(&agent)) || *told == *read(&agent));
        let classifier = Classifier::default();
        prop_assert_eq!(classifier.derive(DerivedColumn::Crawler, &agent).is_some(), told.crawler.is_some());
    }

    #[test]
    fn a_masked_address_is_the_network_of_all_its_neighbours(address in any::<IpAddr>()) {
        let cut = masked(address);
        prop_assert_eq!(masked(cut), cut, "cutting twice changes nothing");
        let near = match address.to_canonical() {
            IpAddr::V4(address) => IpAddr::from((u32::from(address) ^ 0xff).to_be_bytes()),
            IpAddr::V6(address) => IpAddr::from((u128::from(address) ^ 0xffff).to_be_bytes()),
        };
        prop_assert_eq!(masked(near), cut);
        prop_assert!(network(&address.to_string()).is_some());
    }
}
