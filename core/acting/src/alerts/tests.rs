use super::*;
use exedra_answering::config::alerts::{Bound, Figure};
use exedra_common::filters::Filters;
use exedra_common::{Dictionaries, NumberColumn, RequestBatch, TextColumn};
use proptest::prelude::*;

fn when(figure: Figure, bound: Bound, minutes: i64, at_least: u64) -> Condition {
    Condition { figure, of: Filters::default(), bound, minutes, at_least }
}

/// Requests as (minute, client, bytes, whether it fits).
fn counted(when: &Condition, requests: &[(i64, u8, u64, bool)]) -> Counts {
    let mut halves = [Counts::new(when), Counts::new(when)];
    for (nth, (minute, client, bytes, fits)) in requests.iter().enumerate() {
        let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
        batch.time.push(minute * 60_000 + 59_999);
        batch.numbers_mut(NumberColumn::Bytes).push(*bytes);
        let code = texts.of_mut(TextColumn::Client).code(&format!("192.0.2.{client}"));
        batch.codes_mut(TextColumn::Client).push(code);
        halves[nth % 2].add(&batch, 0, &texts, *fits);
    }
    let [mut all, other] = halves;
    all.merge(other);
    all
}

proptest! {
    #[test]
    fn each_minute_is_what_its_last_minutes_add_up_to(
        requests in proptest::collection::vec((0i64..40, 0u8..4, 0u64..100, any::<bool>()), 0..120),
        first in 0i64..20, minutes in 1i64..9, nth in 0usize..4,
    ) {
        let figure = Figure::ALL[nth].1;
        let when = when(figure, Bound::Over(0.5), minutes, 0);
        let counts = counted(&when, &requests);
        let mut window = Window::new(&when, &counts, first);
        for minute in first..45 {
            let inside = || requests.iter().filter(|(at, ..)| (minute - minutes + 1..=minute).contains(at));
            let fitting = || inside().filter(|(.., fits)| *fits);
            let of_client = |client: u8| fitting().filter(|(_, one, ..)| *one == client).count();
            let expected = match figure {
                Figure::Share => fitting().count() as f64 / inside().count().max(1) as f64,
                Figure::Number => fitting().count() as f64,
                Figure::Transfer => fitting().map(|(_, _, bytes, _)| *bytes).sum::<u64>() as f64,
                Figure::OneClient => (0..4).map(of_client).max().unwrap() as f64,
                Figure::Duration(_) => unreachable!("it has a test of its own"),
            };
            let found = window.reading(minute);
            prop_assert_eq!(found.value, expected);
            prop_assert_eq!(found.holds, expected > 0.5);
            prop_assert_eq!(reading(&when, &counts, minute), found);
        }
    }
}

#[test]
fn it_is_raised_once_it_has_held_and_until_it_is_quiet_long_enough() {
    let when = when(Figure::Number, Bound::Over(2.0), 1, 0);
    let mut counts = Counts::new(&when);
    // Three minutes, one of pause, three more; later a single one.
    for (minute, requests) in [(10, 3), (11, 5), (12, 4), (14, 3), (15, 9), (16, 3), (40, 3)] {
        counts.count(minute, requests, 0);
    }
    let found = |holds, ends_after| -> Vec<(i64, Option<i64>, f64)> {
        let all = episodes(&when, (holds, ends_after), &counts, 0..60);
        all.iter().map(|one| (one.began, one.ended, one.worst)).collect()
    };
    assert_eq!(found(0, 2), [(10, Some(19), 9.0), (40, Some(43), 3.0)], "the pause is too short to end it");
    assert_eq!(
        found(2, 0),
        [(12, Some(13), 4.0), (16, Some(17), 3.0)],
        "a single minute is too short to begin"
    );
    assert_eq!(found(0, 30), [(10, None, 9.0)], "it goes on");
}

#[test]
fn too_few_requests_say_nothing_and_one_client_is_named() {
    let share = when(Figure::Share, Bound::Over(0.2), 5, 10);
    let few: Vec<_> = (0..9).map(|nth| (3, nth, 1, true)).collect();
    assert!(!reading(&share, &counted(&share, &few), 4).holds);
    let many: Vec<_> = (0..20).map(|nth| (3, nth, 1, nth < 5)).collect();
    assert_eq!(reading(&share, &counted(&share, &many), 4).value, 0.25);
    let pace = when(Figure::OneClient, Bound::Over(3.0), 2, 0);
    let counts = counted(
        &pace,
        &[(1, 7, 0, true), (1, 7, 0, true), (2, 7, 0, true), (2, 7, 0, true), (2, 9, 0, true)],
    );
    let found = episodes(&pace, (0, 1), &counts, 0..9);
    assert_eq!((found.len(), found[0].client.as_deref()), (1, Some("192.0.2.7")));
    let nothing = when(Figure::Share, Bound::Under(0.5), 5, 0);
    assert!(!reading(&nothing, &Counts::new(&nothing), 4).holds, "of no requests there is no share");
}

proptest! {
    #[test]
    fn whoever_looks_now_and_then_is_told_each_stretch_once_and_in_order(
        requests in proptest::collection::vec(0i64..200, 0..80),
        looks in proptest::collection::vec(1i64..30, 1..40),
        holds in 0i64..3, ends_after in 1i64..9,
    ) {
        let when = when(Figure::Number, Bound::Over(1.0), 4, 0);
        let mut counts = Counts::new(&when);
        requests.iter().for_each(|minute| counts.count(*minute, 1, 0));
        let (mut evaluation, mut told, mut at) = (Evaluation::default(), Some(Told { until: 0, raised: None }), 0);
        let mut said = Vec::new();
        for step in looks {
            evaluation.advance(&when, (holds, ends_after), &counts, at..at + step);
            at += step;
            let (found, now) = changes(told, &evaluation.episodes, at);
            prop_assert_eq!(now.raised, evaluation.current().map(|current| current.began));
            // Whoever looks again at once is told nothing.
            prop_assert_eq!(changes(Some(now), &evaluation.episodes, at), (Vec::new(), now));
            said.extend(found);
            told = Some(now);
        }
        let all = episodes(&when, (holds, ends_after), &counts, 0..at);
        prop_assert_eq!(&all, &evaluation.episodes, "in pieces as in one");
        let mut expected = all.iter();
        let mut raised = None;
        for change in &said {
            match change {
                Change::Raised(one) => {
                    let next = expected.next().unwrap();
                    prop_assert_eq!((raised.replace(next.began), one.began), (None, next.began));
                }
                Change::Over(one) => prop_assert_eq!(raised.take(), Some(one.began)),
                Change::Passed(one) => prop_assert_eq!((raised, Some(one)), (None, expected.next())),
                Change::Withdrawn(_) => prop_assert!(false, "nothing was taken out"),
            }
        }
        prop_assert_eq!(expected.next(), None);
    }
}

#[test]
fn a_past_that_becomes_another_is_told_as_it_is_now() {
    let episode = |began, ended| Episode { began, ended, worst: 9.0, client: None };
    let told = |until, raised| Some(Told { until, raised });
    // Of an alert that is new, only what goes on.
    let found = [episode(3, Some(9)), episode(20, None)];
    assert_eq!(
        changes(None, &found, 30),
        (vec![Change::Raised(found[1].clone())], Told { until: 30, raised: Some(20) })
    );
    // A log was imported that has it raised since before.
    assert_eq!(changes(told(25, None), &found, 30).0, [Change::Raised(found[1].clone())]);
    // It began earlier than was known: whoever was told knows enough.
    assert_eq!(changes(told(25, Some(22)), &found, 30), (vec![], Told { until: 30, raised: Some(22) }));
    // The requests were erased.
    assert_eq!(
        changes(told(25, Some(22)), &found[..1], 30),
        (vec![Change::Withdrawn(22)], Told { until: 30, raised: None })
    );
}

proptest! {
    /// Within one part of a hundred of the true one.
    #[test]
    fn percentiles_are_those_of_the_last_minutes(
        requests in proptest::collection::vec((0i64..30, 1u64..60_000_000), 1..80), percentile in 1u8..100, minute in 5i64..30,
    ) {
        let when = when(Figure::Duration(percentile), Bound::Over(0.0), 5, 0);
        let mut counts = Counts::new(&when);
        for (at, duration) in &requests {
            let (mut batch, texts): (RequestBatch, Dictionaries) = Default::default();
            batch.time.push(at * 60_000);
            batch.numbers_mut(NumberColumn::Duration).push(*duration);
            counts.add(&batch, 0, &texts, true);
        }
        let mut inside: Vec<u64> =
            requests.iter().filter(|(at, _)| (minute - 4..=minute).contains(at)).map(|(_, duration)| *duration).collect();
        inside.sort_unstable();
        // Reached step by step, and at once.
        let mut window = Window::new(&when, &counts, 4);
        let stepped = (4..=minute).map(|minute| window.reading(minute)).last().unwrap();
        prop_assert_eq!(&stepped, &reading(&when, &counts, minute));
        prop_assert_eq!(stepped.holds, !inside.is_empty());
        if !inside.is_empty() {
            let place = ((inside.len() * usize::from(percentile)).div_ceil(100)).max(1) - 1;
            let exact = inside[place] as f64;
            prop_assert!((stepped.value - exact).abs() <= exact * 0.011 + 1.0, "{} {exact}", stepped.value);
        }
    }
}

#[test]
fn what_is_usual_is_the_same_minutes_of_the_weeks_before_and_not_known_without_them() {
    let when = when(Figure::Number, Bound::UnderUsual(0.5), 10, 0);
    let now = 10 * counts::WEEK;
    let counted = |weeks: &[u64], here: u64| {
        let mut counts = Counts::new(&when);
        for (week, requests) in weeks.iter().enumerate() {
            counts.count(now - (week as i64 + 1) * counts::WEEK - 3, *requests, 0);
        }
        counts.count(now - 3, here, 0);
        counts
    };
    let of = |counts: &Counts| {
        let found = reading(&when, counts, now);
        (found.usual, found.holds)
    };
    assert_eq!(of(&counted(&[100, 90, 400, 110], 52)), (Some(105.0), true));
    assert_eq!(of(&counted(&[100, 90, 400, 110], 53)), (Some(105.0), false));
    // A week without any is one: it was written down then.
    assert_eq!(of(&counted(&[100, 0, 0, 110], 49)).0, Some(50.0));
    let known = |weeks: i64| counted(&[100, 90, 400, 110], 1).known_from(now - weeks * counts::WEEK - 11);
    assert_eq!((of(&known(2)), of(&known(1))), ((Some(95.0), true), (None, false)));
    let stretches = Counts::stretches(&when, now..now + 5);
    assert_eq!(
        (stretches.len(), &stretches[2]),
        (5, &(now - 10 - 2 * counts::WEEK..now + 5 - 2 * counts::WEEK))
    );
}
