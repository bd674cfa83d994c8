//! What rules cost a request that fits none of them: with ten, a thousand and ten thousand, beside none at all.

use crate::decide::decide_again;
use exedra_answering::config::{Config, understand};
use http::{HeaderMap, HeaderValue, header};
use std::fmt::Write;
use std::path::Path;
use std::process::ExitCode;
use std::time::Instant;

const TIMES: u32 = 400_000;
const ROUNDS: usize = 9;
const SITE: &str = "[[listener]]\naddress = \"127.0.0.1:0\"\n[[site]]\nname = \"a\"\n\
                    hosts = [\"a.example\"]\nfolder = \"site\"\n";

/// Prints nanoseconds a request, all configurations in turn in each round, the median of the rounds.
pub fn measure() -> ExitCode {
    let counts = [0, 10, 1_000, 10_000];
    let Some(configs) = counts.iter().map(|count| configured(*count)).collect::<Option<Vec<Config>>>() else {
        return ExitCode::FAILURE;
    };
    let mut headers = HeaderMap::new();
    headers.insert(header::HOST, HeaderValue::from_static("a.example"));
    headers.insert(header::ACCEPT_ENCODING, HeaderValue::from_static("gzip, deflate, br, zstd"));
    headers.insert(header::USER_AGENT, HeaderValue::from_static("Mozilla/5.0 (X11; Linux x86_64)"));
    let paths = [("no rule fits", "/pictures/tower.bin"), ("the last exact rule fits", "")];
    for (what, path) in paths {
        let mut times = vec![Vec::new(); counts.len()];
        for _ in 0..ROUNDS {
            for ((config, count), times) in configs.iter().zip(counts).zip(&mut times) {
                let last = format!("/old/{}.html", count / 2);
                times.push(decide(config, &headers, if path.is_empty() { &last } else { path }));
            }
        }
        println!("{what}");
        let medians: Vec<f64> = times.into_iter().map(crate::median).collect();
        for (count, time) in counts.iter().zip(&medians) {
            let more = time - medians[1];
            println!("  {count:>6} rules  {time:>6.0} ns a request  {more:>+6.0} ns against 10 rules");
        }
    }
    ExitCode::SUCCESS
}

/// Half of the rules are about one path each, half are patterns of several shapes.
fn configured(count: usize) -> Option<Config> {
    let mut text = SITE.to_owned();
    for number in 1..=count {
        let path = match number % 8 {
            1 => format!("/notices-{number}/{{year}}/{{rest*}}"),
            3 => format!("/{{tongue}}/page-{number}.html"),
            5 => format!("/deep/{number}/{{name}}/index.html"),
            7 => format!("/pictures-{number}-{{size}}.png"),
            _ => format!("/old/{}.html", number / 2),
        };
        let _ = writeln!(text, "[[site.rules]]\npath = \"{path}\"\nredirect = \"/new/{number}\"");
    }
    understand(&text, Path::new("")).ok()
}

fn decide(config: &Config, headers: &HeaderMap, path: &str) -> f64 {
    let began = Instant::now();
    decide_again(config, headers, path, TIMES);
    began.elapsed().as_nanos() as f64 / f64::from(TIMES)
}
