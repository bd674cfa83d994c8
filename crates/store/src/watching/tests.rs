use super::alerts::{KnownAlert, News, Silence, Stretch};
use super::messages::{MOST_WAITING, MessageState};
use super::*;

fn message(id: &str, recipient: &str) -> NewMessage {
    NewMessage {
        id: id.to_owned(),
        recipient: recipient.to_owned(),
        kind: "raised".to_owned(),
        subject: format!("subject of {id}"),
        content: "{}".to_owned(),
        not_before: 5,
    }
}

fn stretch(began: i64, ended: Option<i64>) -> Stretch {
    Stretch { began, ended, figure: "9 requests".to_owned(), client: None }
}

fn decision(until: i64, raised: Option<i64>, news: Vec<News>) -> Decision {
    Decision { alert: "tides fail".to_owned(), until, raised, news }
}

#[test]
fn a_decision_is_whole_and_what_people_said_stays_until_the_next() {
    let state = tempfile::tempdir().unwrap();
    let watching = Watching::open(state.path());
    let raised = decision(31, Some(30), vec![News::Raised(stretch(30, None))]);
    watching.decide(std::slice::from_ref(&raised), &[message("a", "office")], 7).unwrap();
    assert!(watching.see("tides fail", "ann").unwrap() && !watching.see("others", "ann").unwrap());
    let silence = Silence { until: 50, by: "ben".to_owned(), reason: "known".to_owned() };
    assert!(watching.silence("tides fail", Some(&silence)).unwrap());
    // It fails whole: the identity of the second message is taken.
    let over = decision(40, None, vec![News::Over(stretch(30, Some(39)))]);
    let twice = [message("b", "office"), message("a", "office")];
    assert!(watching.decide(std::slice::from_ref(&over), &twice, 8).is_err());
    let known = |raised, seen_by: Option<&str>, silence| KnownAlert {
        name: "tides fail".to_owned(),
        until: if raised == Some(30) { 31 } else { 40 },
        raised,
        seen_by: seen_by.map(str::to_owned),
        silence,
    };
    let again = Watching::open(state.path());
    assert_eq!(again.alerts().unwrap(), [known(Some(30), Some("ann"), Some(silence.clone()))]);
    assert_eq!(again.waiting("office", 9).unwrap().len(), 1);
    again.decide(&[over], &[], 9).unwrap();
    assert!(again.silence("tides fail", None).unwrap());
    assert_eq!(again.alerts().unwrap(), [known(None, None, None)]);
    let past: Vec<Stretch> =
        again.history(None, None, 9).unwrap().into_iter().map(|one| one.stretch).collect();
    assert_eq!(past, [stretch(30, Some(39))], "one line for a stretch");
    let named = Stretch { client: Some("192.0.2.7".to_owned()), ..stretch(50, Some(55)) };
    again.decide(&[decision(56, None, vec![News::Passed(named)])], &[message("c", "office")], 9).unwrap();
    assert_eq!(again.erase_client(|client| client == "192.0.2.7").unwrap(), 1);
    assert_eq!(again.history(None, None, 1).unwrap()[0].stretch, stretch(50, Some(55)));
    assert_eq!(again.erase_messages(|text| text.contains("subject of")).unwrap(), 0, "they are on their way");
    again.forget_other_alerts(&["others"], 60).unwrap();
    assert_eq!(
        (again.alerts().unwrap().len(), again.history(Some("tides fail"), None, 9).unwrap().len()),
        (0, 2)
    );
}

#[test]
fn messages_wait_in_their_order_and_end_in_one_way() {
    let state = tempfile::tempdir().unwrap();
    let watching = Watching::open(state.path());
    let numbers: Vec<i32> =
        ["a", "b", "c", "d"].iter().map(|id| watching.send(&message(id, "office"), 1).unwrap()).collect();
    watching.send(&message("e", "harbour"), 1).unwrap();
    assert_eq!(watching.waited_for(4).unwrap(), (vec![], true), "nobody's time has come");
    assert_eq!(watching.waited_for(5).unwrap().0, ["office", "harbour"]);
    watching.failed(numbers[0], "refused", 90).unwrap();
    assert_eq!(watching.waited_for(89).unwrap().0, ["harbour"], "the first one keeps back the others");
    let first = watching.waiting("office", 1).unwrap().remove(0);
    assert_eq!(
        (first.id.as_str(), first.attempts, first.next, first.failure.as_deref()),
        ("a", 1, 90, Some("refused"))
    );
    assert_eq!(watching.undelivered(0).unwrap().len(), 1);
    assert_eq!(watching.gather(&numbers[..2], &message("x", "office"), 2).unwrap(), None, "one was tried");
    assert!(watching.gather(&numbers[1..3], &message("y", "office"), 2).unwrap().is_some());
    watching.delivered(numbers[0], 3).unwrap();
    watching.give_up(numbers[3], "nobody there", 4).unwrap();
    let left: Vec<String> = watching.waiting("office", 9).unwrap().into_iter().map(|one| one.id).collect();
    assert_eq!(left, ["y"]);
    let of = |number| watching.message(number).unwrap().unwrap().state;
    assert_eq!(
        numbers.iter().map(|number| of(*number)).collect::<Vec<_>>(),
        [MessageState::Delivered, MessageState::Gathered, MessageState::Gathered, MessageState::GivenUp]
    );
    assert_eq!((watching.undelivered(4).unwrap().len(), watching.undelivered(5).unwrap().len()), (1, 0));
    assert_eq!(watching.erase_messages(|text| text.contains("subject of b")).unwrap(), 1);
    assert_eq!(watching.message(numbers[1]).unwrap(), None);
    assert!(watching.retry(numbers[3], 6).unwrap() && !watching.retry(numbers[0], 6).unwrap());
    assert_eq!(of(numbers[3]), MessageState::Waiting);
}

#[test]
fn what_waits_for_one_recipient_has_a_bound_and_what_is_beyond_is_said() {
    let state = tempfile::tempdir().unwrap();
    let watching = Watching::open(state.path());
    let many: Vec<NewMessage> = (0..MOST_WAITING).map(|nth| message(&nth.to_string(), "office")).collect();
    watching.decide(&[], &many, 1).unwrap();
    let beyond = watching.send(&message("beyond", "office"), 2).unwrap();
    let said = watching.message(beyond).unwrap().unwrap();
    assert_eq!((said.state, said.ended), (MessageState::GivenUp, Some(2)));
    assert!(said.failure.unwrap().contains("1000 messages wait"));
    watching.send(&message("other", "harbour"), 2).unwrap();
    assert_eq!(watching.waiting("harbour", 9).unwrap().len(), 1, "others are not concerned");
}
