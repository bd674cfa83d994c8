//! Many sites cost what they need: a log file each, and no threads.

use exedra_e2e::{Place, total, until};

/// Open files and threads of a service with so many sites, of which each has been asked for something.
fn cost(sites: usize) -> (usize, usize) {
    let place = Place::new();
    let mut more = String::new();
    for number in 0..sites {
        place.write(&format!("s{number}/index.html"), "before");
        more += &format!(
            "[[site]]\nname = \"s{number}\"\nhosts = [\"s{number}.example\"]\nfolder = \"s{number}\"\n"
        );
    }
    place.configure(&more);
    let service = place.serve();
    let ask = |number: usize| service.get(&format!("s{number}.example"), "/").text().unwrap();
    for number in 0..sites {
        assert_eq!(ask(number), "before", "{number}");
    }
    // Whichever folders are open now, a change shows in all.
    for number in [0, sites / 2, sites - 1] {
        place.write(&format!("s{number}/index.html"), "after it");
        until("a change shows", || (ask(number) == "after it").then_some(()));
    }
    let all = || total(&service.api("survey"), "requests").as_u64().unwrap();
    until("all is recorded", || (all() >= sites as u64 + 3).then_some(()));
    let count =
        |what: &str| std::fs::read_dir(format!("/proc/{}/{what}", service.process())).unwrap().count();
    (count("fd"), count("task"))
}

#[test]
fn neither_threads_nor_open_files_grow_with_sites_beyond_a_log_each() {
    let ((few_files, few_threads), (many_files, many_threads)) = (cost(80), cost(300));
    assert!(many_files <= few_files + 220 + 10, "{few_files} and {many_files} open files");
    assert!(many_threads <= few_threads + 3, "{few_threads} and {many_threads} threads");
}
