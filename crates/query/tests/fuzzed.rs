//! The check of the fuzz target for statements, over its kept inputs, over what becomes of those when letters change, and over words of
//! SQL in any order.

#[path = "../../../fuzz/src/statements.rs"]
mod statements;

use proptest::prelude::*;
use statements::statement;
use std::path::Path;

fn corpus() -> Vec<Vec<u8>> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/corpus/statements");
    let mut files: Vec<_> = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    files.sort();
    files.iter().map(|file| std::fs::read(file).unwrap()).collect()
}

#[test]
fn kept_inputs_do_no_harm() {
    let inputs = corpus();
    assert!(inputs.len() >= 20);
    inputs.iter().for_each(|input| statement(input));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    #[test]
    fn changed_inputs_do_no_harm(
        which in any::<prop::sample::Index>(),
        edits in proptest::collection::vec((any::<usize>(), 0u8..3, prop::sample::select(b"()'\",*=-+;: \n.%aZ09\\".to_vec())), 1..8),
    ) {
        let inputs = corpus();
        let mut input = which.get(&inputs).clone();
        for (place, kind, octet) in edits {
            let at = place % (input.len() + 1);
            match kind {
                0 => input.insert(at, octet),
                1 if at < input.len() => input[at] = octet,
                _ if at < input.len() => _ = input.remove(at),
                _ => {}
            }
        }
        statement(&input);
    }

    #[test]
    fn words_in_any_order_do_no_harm(words in proptest::collection::vec(prop_oneof![
        prop::sample::select(vec![
            "select", "path", "from", "requests", "where", "status", "=", "404", "'a'", "(", ")", ",", "*", "count(", "group by", "1",
            "order by", "limit", "case when", "end", "is null", "in (", "like", "time", ">", "interval '1 day'", "over (", "partition by",
            "with x as (", "union all", "join requests b on", "b.", "visit_of()", "is_person()", "every(time,", "||", ":n", ";", "--", "/*",
            "\"", "'", "\\", "not", "between", "and", "::text", "distinct", "having", "null", "-", "true",
        ]).prop_map(str::to_owned),
        "\\PC{0,6}",
    ], 0..14)) {
        statement(words.join(" ").as_bytes());
    }
}
