//! Why a request would be answered as it would: the form that `exedra explain` prints and the console shows.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A request that might be made.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct Ask {
    /// The address, as in `http://harbour.example/tides/?day=1`; without a scheme it is `http`.
    pub url: String,
    /// The method; `GET` where it is empty.
    #[serde(default)]
    pub method: String,
    /// Lines as in `Accept-Encoding: br`. They replace those that are assumed.
    #[serde(default)]
    pub headers: Vec<String>,
    /// Address of the client; this machine's where it is empty.
    #[serde(default)]
    pub client: String,
}

/// Everything there is to say of a request.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Explanation {
    /// The request.
    pub request: Asked,
    /// What is known of it, under the names that rules use.
    pub facts: Vec<FactValue>,
    /// The site that answers.
    pub site: Option<String>,
    /// The steps that lead to the answer.
    pub steps: Vec<Step>,
    /// What becomes of each codec.
    pub codecs: Vec<Codec>,
    /// The answer.
    pub answer: Outcome,
    /// The settings that are in effect at that place, and where each was decided.
    pub settings: Vec<Setting>,
}

/// An address of the sites, to be opened once: whoever does is told what their request was, and what it would have been answered.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct NewTrial {
    /// The address that it is about, as in `http://harbour.example/tides/`.
    pub url: String,
}

/// Such an address, and what has become of it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Trial {
    /// By what it is known.
    pub id: String,
    /// The address to open.
    pub address: String,
    /// Until when it waits (RFC 3339).
    pub until: String,
    /// What came, once something has.
    pub explanation: Option<Explanation>,
}

/// A request.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Asked {
    /// Method.
    pub method: String,
    /// Scheme.
    pub scheme: String,
    /// Host and port.
    pub authority: String,
    /// Path, exactly as it was written.
    pub path: String,
    /// Query, where there is one.
    pub query: Option<String>,
    /// Address of the client.
    pub client: String,
    /// Header fields, those assumed included.
    pub headers: Vec<(String, String)>,
}

impl Asked {
    /// Path and query.
    pub fn target(&self) -> String {
        match &self.query {
            Some(query) => format!("{}?{query}", self.path),
            None => self.path.clone(),
        }
    }

    /// The whole address.
    pub fn address(&self) -> String {
        format!("{}://{}{}", self.scheme, self.authority, self.target())
    }
}

/// A fact.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FactValue {
    /// Its name.
    pub name: String,
    /// What it is; nothing where the request has none.
    pub value: Option<String>,
}

/// One step of the decision.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Step {
    /// What was decided about.
    pub about: String,
    /// The step in words.
    pub words: String,
    /// Whether it made no difference: a rule that does not fit.
    #[serde(default)]
    pub in_vain: bool,
    /// The file in which the cause is written, where it is written anywhere.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub file: Option<String>,
    /// The line in it.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub line: Option<usize>,
}

/// What became of a codec.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Codec {
    /// Its name in `Content-Encoding`.
    pub codec: String,
    /// Whether it is used.
    pub used: bool,
    /// Why, or why not.
    pub why: String,
}

/// What would go out.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Outcome {
    /// Status.
    pub status: u16,
    /// Its reason phrase.
    pub reason: String,
    /// Header fields.
    pub headers: Vec<(String, String)>,
    /// Octets of the body, where they can be told.
    pub bytes: Option<u64>,
    /// The file that the body comes from.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub file: Option<String>,
}

impl Outcome {
    /// A header field, by its name in lower case.
    pub fn header(&self, name: &str) -> Option<&str> {
        self.headers.iter().find(|(known, _)| known == name).map(|(_, value)| value.as_str())
    }
}

/// A setting in effect, and where that was decided.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Setting {
    /// Its name.
    pub name: String,
    /// What it is set to, in words.
    pub value: String,
    /// The file that says so; nothing where nobody does.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub file: Option<String>,
    /// The line in it.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub line: Option<usize>,
}
