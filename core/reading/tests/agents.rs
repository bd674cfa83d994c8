//! What agents are: a table of browsers on every system, of apps, consoles and televisions, of text browsers, crawlers, monitors,
//! readers of feeds, scanners and libraries. Programs have made-up names in the shapes that such names have.

use exedra_reading::classify::agents::{is_known_crawler, is_program, read};

const TABLE: &str = include_str!("agents.tsv");

#[test]
fn every_agent_of_the_table_is_what_it_says() {
    let rows: Vec<(&str, &str)> = TABLE
        .lines()
        .filter(|line| !line.starts_with('#'))
        .filter_map(|line| line.split_once('\t'))
        .collect();
    assert!(rows.len() >= 135, "{}", rows.len());
    let mut wrong = Vec::new();
    for (expected, agent) in rows {
        let found = read(agent);
        let found = match &found.crawler {
            Some(name) => name.clone(),
            None => {
                let parts = [found.browser.as_deref(), found.system.as_deref(), found.device];
                parts.map(|part| part.unwrap_or("-")).join(", ")
            }
        };
        // A star stands for whatever the data set says.
        let fits = expected.split(", ").zip(found.split(", ")).all(|(one, other)| one == "*" || one == other);
        if !fits || expected.split(", ").count() != found.split(", ").count() {
            wrong.push(format!("{found} and not {expected}: {agent}"));
        }
        assert_eq!(read(agent).crawler.is_some(), is_program(agent), "{agent}");
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn crawlers_are_told_from_whoever_tries_doors() {
    for agent in ["LindryBot/2.0 (+https://lindry.example/bot)", "Mozilla/5.0 (compatible; QuaySpider/1.0)"] {
        assert!(is_known_crawler(agent), "{agent}");
    }
    for agent in [
        "",
        "curl/8.9.1",
        "wharfscout/1.3",
        "Mozilla/5.0",
        "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0",
    ] {
        assert!(!is_known_crawler(agent), "{agent}");
    }
}
