//! What must hold whatever is typed as a statement: it is one, or a mistake in a sentence and at a place within it.

use exedra_common::columns::Derive;
use exedra_common::scope::Scope;
use exedra_query::parameters::Parameters;
use exedra_query::{
    Engine, Limits, QueryError, Reading, RequestReader, RequestSource, RequestsTable, SourceError, Statement,
};
use exedra_reading::classify::Classifier;
use exedra_reading::survey::VisitorKey;
use std::sync::Arc;

/// Nothing is read: statements are planned.
#[derive(Debug)]
struct Nothing;

impl RequestSource for Nothing {
    fn begin(&self, _: Reading) -> Result<Vec<Box<dyn RequestReader>>, SourceError> {
        Ok(Vec::new())
    }
}

thread_local! {
    static ENGINE: Engine = {
        let derive: Arc<dyn Derive> = Arc::new(Classifier::default());
        let scope = (Scope::default(), jiff::tz::TimeZone::UTC);
        let table = RequestsTable::new(Arc::new(Nothing), scope, derive, VisitorKey([1, 2]));
        Engine::new(table, Limits::default(), || {}).expect("an engine")
    };
}

/// Whatever is typed is a statement or a mistake with a sentence and a place within it, and nothing falls over.
pub fn statement(octets: &[u8]) {
    let Ok(text) = std::str::from_utf8(octets) else { return };
    let mut values = Parameters::default();
    for name in ["n", "since", "status"] {
        values.set_usual(name, "7");
    }
    let checked = Statement::understand(text, &values)
        .map_err(QueryError::from)
        .and_then(|statement| ENGINE.with(|engine| engine.check(&statement)));
    if let Err(error) = checked {
        let QueryError::Wrong(wrong) = error else { panic!("{text}: {error}") };
        assert!(!wrong.what.is_empty(), "{text}");
        assert!(wrong.at.as_ref().is_none_or(|at| text.get(at.clone()).is_some()), "{text}: {:?}", wrong.at);
    }
}
