//! The checks of the fuzz targets, over their kept corpora and over what becomes of those when octets change.

#[path = "../../../fuzz/src/lib.rs"]
mod fuzz;

use proptest::prelude::*;
use std::path::Path;

/// Every kept input of a target.
fn corpus(name: &str) -> Vec<Vec<u8>> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/corpus").join(name);
    let mut files: Vec<_> = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    files.sort();
    let inputs: Vec<Vec<u8>> = files.iter().map(|file| std::fs::read(file).unwrap()).collect();
    assert!(!inputs.is_empty());
    inputs
}

#[test]
fn kept_inputs_do_no_harm() {
    corpus("layouts").iter().for_each(|input| fuzz::layout(input));
    corpus("lines").iter().for_each(|input| fuzz::lines(input));
    corpus("search").iter().for_each(|input| fuzz::search(input));
    corpus("errors").iter().for_each(|input| fuzz::errors(input));
}

/// Puts octets into an input, takes some out of it, or repeats some.
fn changed(mut input: Vec<u8>, edits: &[(usize, u8, u8)]) -> Vec<u8> {
    for (place, kind, octet) in edits {
        let at = place % (input.len() + 1);
        match kind % 4 {
            0 => input.insert(at, *octet),
            1 if at < input.len() => input[at] = *octet,
            2 if at < input.len() => {
                input.remove(at);
            }
            _ => {
                let end = (at + usize::from(*octet) % 40).min(input.len());
                let again = input[at..end].to_vec();
                input.splice(at..at, again);
            }
        }
    }
    input
}

proptest! {
    #[test]
    fn changed_inputs_do_no_harm(
        which in any::<prop::sample::Index>(),
        edits in proptest::collection::vec((any::<usize>(), any::<u8>(), prop_oneof![
            any::<u8>(), prop::sample::select(b"{}()[]\"\\ \n%:#-.,".to_vec())]), 1..12),
    ) {
        let (layouts, lines, search, errors) =
            (corpus("layouts"), corpus("lines"), corpus("search"), corpus("errors"));
        fuzz::search(&changed(which.get(&search).clone(), &edits));
        fuzz::errors(&changed(which.get(&errors).clone(), &edits));
        fuzz::layout(&changed(which.get(&layouts).clone(), &edits));
        fuzz::lines(&changed(which.get(&lines).clone(), &edits));
    }
}
