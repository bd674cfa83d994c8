//! Whether whatever fits one rule fits another, so that the other, when it answers first, leaves nothing to it.
//!
//! This is told from patterns and conditions, never from trying: it is only said where it is certain.
//!
//! ```
//! use exedra_answering::rules::Pattern;
//! use exedra_answering::rules::cover::covers_paths;
//! let (outer, inner) = (Pattern::understand("/tides/{rest*}").unwrap(), Pattern::understand("/tides/{day}").unwrap());
//! assert!(covers_paths(&outer, &inner) && !covers_paths(&inner, &outer));
//! ```

use super::Rule;
use super::pattern::{Bit, Pattern, Rest, Segment};
use super::seen::Seen;
use super::when::{Asks, Condition, Entry};

/// Whether every request that fits `inner` also fits `outer`.
pub fn covers(outer: &Rule, inner: &Rule) -> bool {
    let path = match (&outer.path, &inner.path) {
        (None, _) => true,
        (Some(_), None) => false,
        (Some(outer), Some(inner)) => covers_paths(outer, inner),
    };
    let implied = |condition: &Condition| inner.when.iter().any(|other| implies(other, condition));
    path && outer.when.iter().all(implied)
}

/// Whether every path of one pattern is one of another.
pub fn covers_paths(outer: &Pattern, inner: &Pattern) -> bool {
    if let Some(path) = inner.exact() {
        return outer.capture(&Seen::new(path)).is_some();
    }
    match (outer.segments(), inner.segments()) {
        (Some((outer, None)), Some((inner, None))) => {
            outer.len() == inner.len()
                && outer.iter().zip(inner).all(|(outer, inner)| covers_segment(outer, inner))
        }
        (Some((outer, Some(rest))), Some((inner, inner_rest))) => {
            outer.len() <= inner.len()
                && outer.iter().zip(inner).all(|(outer, inner)| covers_segment(outer, inner))
                && covers_rest(rest, &inner[outer.len()..], inner_rest)
        }
        _ => outer.is_regex() && inner.is_regex() && outer.text() == inner.text(),
    }
}

fn covers_rest(outer: &Rest, segments: &[Segment], inner: Option<&Rest>) -> bool {
    match (segments.first(), inner) {
        (Some(segment), _) => segment.begins().starts_with(&*outer.begins),
        (None, Some(inner)) => inner.begins.starts_with(&*outer.begins),
        (None, None) => false,
    }
}

fn covers_segment(outer: &Segment, inner: &Segment) -> bool {
    if outer == inner {
        return true;
    }
    if let Some(literal) = inner.literal() {
        return outer.fits(literal, |_| ()).is_some();
    }
    let begins = |text: &str| inner.begins().starts_with(text);
    let ends = |text: &str| matches!(inner.0.last(), Some(Bit::Literal(literal)) if literal.ends_with(text));
    match outer.0.as_slice() {
        [Bit::Capture] => true,
        [Bit::Literal(first), Bit::Capture] => begins(first),
        [Bit::Capture, Bit::Literal(last)] => ends(last),
        [Bit::Literal(first), Bit::Capture, Bit::Literal(last)] => begins(first) && ends(last),
        _ => false,
    }
}

/// Whether one condition holds wherever another does.
fn implies(inner: &Condition, outer: &Condition) -> bool {
    if inner.fact != outer.fact {
        return false;
    }
    match (&inner.asks, &outer.asks) {
        (Asks::Presence(inner), Asks::Presence(outer)) => inner == outer,
        (Asks::Among(entries), Asks::Presence(true)) => entries.iter().any(|entry| !entry.negated),
        (Asks::Among(inner), Asks::Among(outer)) => {
            let of = |entries: &[Entry], negated: bool| -> Vec<String> {
                let entries = entries.iter().filter(|entry| entry.negated == negated);
                entries.map(|entry| format!("{:?}", entry.test)).collect()
            };
            let (wanted, allowed) = (of(inner, false), of(outer, false));
            let narrower =
                allowed.is_empty() || (!wanted.is_empty() && wanted.iter().all(|one| allowed.contains(one)));
            let excluded = of(inner, true);
            narrower && of(outer, true).iter().all(|one| excluded.contains(one))
        }
        (Asks::Presence(_), _) | (Asks::Among(_), Asks::Presence(false)) => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("/{*}", "/a/b", true)]
    #[case("/a/{*}", "/a/{b}/c", true)]
    #[case("/a/{*}", "/a/{b*}", true)]
    #[case("/a/{b}/{*}", "/a/{*}", false)]
    #[case("/{a}", "/x", true)]
    #[case("/{a}", "/x{y}", true)]
    #[case("/x{a}", "/{y}", false)]
    #[case("/x{a}.html", "/xy{b}.html", true)]
    #[case("/{a}/b", "/{c}/{d}", false)]
    #[case("/{a}/b", "/{c}/", false)]
    #[case("/old{*}", "/old-{rest*}", true)]
    fn paths(#[case] outer: &str, #[case] inner: &str, #[case] expected: bool) {
        let (outer, inner) = (Pattern::understand(outer).unwrap(), Pattern::understand(inner).unwrap());
        assert_eq!(covers_paths(&outer, &inner), expected);
    }

    proptest! {
        #[test]
        fn what_is_covered_never_gets_past(
            outer in "(/(a|b|\\{x\\}|a\\{x\\}|\\{x\\}b)){1,2}(/\\{\\*\\})?",
            inner in "(/(a|b|\\{x\\}|a\\{x\\}|\\{x\\}b)){1,3}(/\\{\\*\\})?",
            path in "(/[ab]{0,3}){1,4}",
        ) {
            if let (Ok(outer), Ok(inner)) = (Pattern::understand(&outer), Pattern::understand(&inner)) {
                let seen = Seen::new(path.as_str());
                if covers_paths(&outer, &inner) && inner.capture(&seen).is_some() {
                    prop_assert!(outer.capture(&seen).is_some());
                }
            }
        }
    }
}
