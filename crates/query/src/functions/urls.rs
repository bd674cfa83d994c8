//! Parts of addresses: hosts, paths, parameters of queries (RFC 3986).

use super::per_text::{coerced, constant, texts_of_texts};
use super::{Function, Kind};
use crate::schema::text;
use arrow::datatypes::DataType;
use datafusion::common::plan_err;
use datafusion::error::Result;
use datafusion::logical_expr::{ColumnarValue, ScalarFunctionArgs, ScalarUDFImpl, Signature, Volatility};
use exedra_reading::classify::referrers;
use percent_encoding::percent_decode_str;
use std::borrow::Cow;

/// What people are told of it.
pub const HOST: Function = Function {
    name: "host_of",
    usage: "host_of(url)",
    meaning: "The host that an address names, in small letters.",
    example: "select host_of(referrer) as linked_from, count(*) as requests from requests group by linked_from order by requests desc limit 10",
    kind: Kind::Row,
    is_own: true,
};

/// What people are told of it.
pub const PATH: Function = Function {
    name: "path_of",
    usage: "path_of(url)",
    meaning: "The path of an address, without its query.",
    example: "select path_of(referrer) as page, count(*) as requests from requests group by page order by requests desc limit 10",
    kind: Kind::Row,
    is_own: true,
};

/// What people are told of it.
pub const PARAMETER: Function = Function {
    name: "parameter",
    usage: "parameter(query, name)",
    meaning: "The value of a parameter of a query, decoded; nothing where it has none of this name.",
    example: "select parameter(query, 'q') as searched, count(*) as requests from requests where query is not null group by searched",
    kind: Kind::Row,
    is_own: true,
};

/// What people are told of it.
pub const DECODED: Function = Function {
    name: "decoded",
    usage: "decoded(path)",
    meaning: "A path as people read it, with %20 and the like decoded.",
    example: "select decoded(path) as path, count(*) as requests from requests group by 1 order by requests desc limit 10",
    kind: Kind::Row,
    is_own: true,
};

/// What follows from an address alone.
#[derive(Debug, PartialEq, Eq, Hash)]
pub struct Part {
    name: &'static str,
    which: Which,
    signature: Signature,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
enum Which {
    Host,
    Path,
    Decoded,
}

impl Part {
    fn new(name: &'static str, which: Which) -> Self {
        Part { name, which, signature: Signature::user_defined(Volatility::Immutable) }
    }

    /// The host.
    pub fn host() -> Self {
        Part::new(HOST.name, Which::Host)
    }

    /// The path.
    pub fn path() -> Self {
        Part::new(PATH.name, Which::Path)
    }

    /// All of it, decoded.
    pub fn decoded() -> Self {
        Part::new(DECODED.name, Which::Decoded)
    }
}

impl ScalarUDFImpl for Part {
    fn name(&self) -> &'static str {
        self.name
    }

    fn signature(&self) -> &Signature {
        &self.signature
    }

    fn coerce_types(&self, given: &[DataType]) -> Result<Vec<DataType>> {
        match given.len() {
            1 => coerced(self.name, given, &[None]),
            _ => plan_err!("{} takes one text", self.name),
        }
    }

    fn return_type(&self, _: &[DataType]) -> Result<DataType> {
        Ok(text())
    }

    fn invoke_with_args(&self, given: ScalarFunctionArgs) -> Result<ColumnarValue> {
        let [address] = &given.args[..] else { return plan_err!("{} takes one text", self.name) };
        texts_of_texts(address, |address| match self.which {
            Which::Host => referrers::host(address).map(Cow::Owned),
            Which::Path => Some(Cow::Borrowed(path(address))),
            Which::Decoded => Some(percent_decode_str(address).decode_utf8_lossy()),
        })
    }
}

/// The path of an address, or of a target without scheme and host.
fn path(address: &str) -> &str {
    let end = address.find(['?', '#']).unwrap_or(address.len());
    let address = &address[..end];
    match address.find("://") {
        Some(scheme) => {
            let rest = &address[scheme + 3..];
            rest.find('/').map_or("/", |begin| &rest[begin..])
        }
        None => address,
    }
}

/// The query of an address, or what is a query already: that may have question marks itself (RFC 3986 §3.4).
fn query_of(text: &str) -> &str {
    let is_scheme = |text: &str| {
        !text.is_empty() && text.bytes().all(|one| one.is_ascii_alphanumeric() || b"+-.".contains(&one))
    };
    let is_address =
        text.starts_with('/') || text.split_once("://").is_some_and(|(scheme, _)| is_scheme(scheme));
    if !is_address {
        return text.strip_prefix('?').unwrap_or(text);
    }
    let text = text.split_once('#').map_or(text, |(text, _)| text);
    text.split_once('?').map_or("", |(_, query)| query)
}

/// The value of a parameter.
#[derive(Debug, PartialEq, Eq, Hash)]
pub struct Parameter(Signature);

impl Default for Parameter {
    fn default() -> Self {
        Parameter(Signature::user_defined(Volatility::Immutable))
    }
}

impl ScalarUDFImpl for Parameter {
    fn name(&self) -> &'static str {
        PARAMETER.name
    }

    fn signature(&self) -> &Signature {
        &self.0
    }

    fn coerce_types(&self, given: &[DataType]) -> Result<Vec<DataType>> {
        match given.len() {
            2 => coerced(PARAMETER.name, given, &[None, Some(DataType::Utf8)]),
            _ => plan_err!("parameter takes a query and a name, as in parameter(query, 'page')"),
        }
    }

    fn return_type(&self, _: &[DataType]) -> Result<DataType> {
        Ok(text())
    }

    fn invoke_with_args(&self, given: ScalarFunctionArgs) -> Result<ColumnarValue> {
        let [query, name] = &given.args[..] else { return plan_err!("parameter takes two values") };
        let name = constant(name, PARAMETER.name, "the name")?;
        texts_of_texts(query, |query| {
            let mut all = form_urlencoded::parse(query_of(query).as_bytes());
            all.find(|(key, _)| key == name).map(|(_, value)| Cow::Owned(value.into_owned()))
        })
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    #[rstest]
    #[case("day=1&q=why?", "day=1&q=why?")]
    #[case("?day=1", "day=1")]
    #[case("next=https://harbour.example/?day=2", "next=https://harbour.example/?day=2")]
    #[case("https://harbour.example/tides?day=1?#top", "day=1?")]
    #[case("/tides?day=1", "day=1")]
    #[case("/tides", "")]
    fn queries(#[case] text: &str, #[case] query: &str) {
        assert_eq!(super::query_of(text), query);
    }

    #[rstest]
    #[case("https://harbour.example/tides?day=1#top", "/tides")]
    #[case("https://harbour.example", "/")]
    #[case("https://harbour.example?day=1", "/")]
    #[case("/tides?day=1", "/tides")]
    fn paths(#[case] address: &str, #[case] path: &str) {
        assert_eq!(super::path(address), path);
    }
}
