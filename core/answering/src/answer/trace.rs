//! The steps that led to an answer, for whoever asks why.
//!
//! Deciding tells an [`Observer`] what it does. The ordinary one is `()`, which hears nothing and costs
//! nothing; a [`Trace`] writes everything down. Steps are facts; [`Step::words`] says them.
//!
//! ```
//! use exedra_answering::config::understand;
//! let text = "[[listener]]\naddress = \"127.0.0.1:0\"\n[[site]]\nname = \"a\"\nhosts = [\"a.example\"]\nfolder = \"a\"\n";
//! let config = understand(text, std::path::Path::new("")).unwrap();
//! use exedra_answering::answer::{Step, Trace, Tree, answer_traced};
//! use exedra_answering::facts::{Facts, Known};
//! let facts = Facts { host: Known::Is("a.example"), method: Known::Is("GET"), path: Known::Is("/x"), ..Facts::UNKNOWN };
//! let Ok((answer, trace)) = answer_traced(&config, facts, Trace::complete()).by(&Tree::default());
//! assert_eq!(answer.status, 404);
//! assert!(matches!(&trace.steps[0], Step::Site { site, .. } if site == "a"));
//! assert!(trace.steps.iter().all(|step| !step.words().is_empty()));
//! ```

use super::conditions::Outcome;
use super::path::NoPath;
use super::ranges::Ranges;
use super::{Broken, Entry, Form, Password, SitePath};
use crate::encode::Codec;
use http::StatusCode;
use smol_str::SmolStr;
use std::fmt::Debug;
use std::ops::Range;

/// Somebody who is told of the steps of a decision.
pub trait Observer: Debug + Default {
    /// Whether it hears anything at all.
    const LISTENS: bool;

    /// Whether it wants to know of rules that do not fit, too.
    fn hears_misfits(&self) -> bool {
        false
    }

    /// A step was made. The step itself is only put together where somebody listens.
    fn see(&mut self, step: impl FnOnce() -> Step);
}

impl Observer for () {
    const LISTENS: bool = false;

    fn see(&mut self, _: impl FnOnce() -> Step) {}
}

/// Why a request failed: the step that says so, and the place that was looked at last.
#[derive(Debug, Clone, PartialEq)]
pub struct Cause {
    /// The step.
    pub step: Step,
    /// The place in the site's folder.
    pub at: Option<SitePath>,
}

impl Cause {
    pub(super) fn of(step: Step, at: Option<&SitePath>) -> Option<Box<Cause>> {
        Some(Box::new(Cause { step, at: at.cloned() }))
    }
}

/// All steps, in order.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Trace {
    /// The steps.
    pub steps: Vec<Step>,
    /// Whether rules that do not fit are written down as well.
    pub with_misfits: bool,
}

impl Trace {
    /// One in which rules that do not fit are written down as well.
    pub fn complete() -> Self {
        Trace { steps: Vec::new(), with_misfits: true }
    }
}

impl Observer for Trace {
    const LISTENS: bool = true;

    fn hears_misfits(&self) -> bool {
        self.with_misfits
    }

    fn see(&mut self, step: impl FnOnce() -> Step) {
        self.steps.push(step());
    }
}

/// Where something is written.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Place {
    /// The folder in whose own file it stands; otherwise it is the configuration.
    pub folder: Option<SitePath>,
    /// Octets of that text. Empty where a default speaks.
    pub span: Range<usize>,
}

impl From<&Range<usize>> for Place {
    /// A place in the configuration.
    fn from(span: &Range<usize>) -> Self {
        Place { folder: None, span: span.clone() }
    }
}

/// Why a rule does not fit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Why {
    /// It is about other paths.
    Path(String),
    /// A fact is another than the rule asks for.
    Other {
        /// The condition as it is written.
        asked: String,
        /// What the fact is.
        value: String,
    },
    /// A fact that the rule asks for is not there.
    Absent {
        /// The condition as it is written.
        asked: String,
    },
    /// Nobody can tell.
    Unknown {
        /// The condition as it is written.
        asked: String,
    },
}

/// One step of a decision.
#[derive(Debug, Clone, PartialEq)]
pub enum Step {
    /// A site answers to the host.
    Site {
        /// The host asked for.
        host: String,
        /// Name of the site.
        site: String,
        /// Whether it answers because it answers for all unknown hosts.
        as_default: bool,
        /// Where the host, or the site, is written.
        place: Place,
    },
    /// No site answers to the host.
    NoSite {
        /// The host asked for.
        host: String,
    },
    /// The request names no host, or several.
    NoHost,
    /// The site's other hosts are sent to its main one.
    MainHost {
        /// The main host.
        host: String,
        /// Where it is written.
        place: Place,
    },
    /// The site requires HTTPS.
    ToHttps {
        /// Where that is written.
        place: Place,
    },
    /// A rule fits.
    Rule {
        /// What it is called.
        name: String,
        /// What happens.
        effects: Vec<&'static str>,
        /// Where it is written.
        place: Place,
    },
    /// A rule does not fit.
    RuleNot {
        /// What it is called.
        name: String,
        /// Why not.
        why: Why,
        /// Where it is written, or the condition that does not hold.
        place: Place,
    },
    /// Another path is served instead.
    Served {
        /// That path.
        path: String,
    },
    /// The visitor is sent elsewhere.
    Sent {
        /// Where to.
        target: String,
        /// How.
        status: StatusCode,
    },
    /// A rule would send the visitor to the very address that was asked for.
    ToItself {
        /// That address.
        target: String,
    },
    /// A name and a password are asked for.
    Login {
        /// The realm.
        realm: String,
        /// The name that was given, and what is known of the password.
        user: Option<(String, Password)>,
        /// Where the realm is written.
        place: Place,
    },
    /// A name and a password would be asked for, but not without HTTPS.
    LoginNeedsHttps {
        /// The realm.
        realm: String,
        /// Where it is written.
        place: Place,
    },
    /// A folder says something of itself.
    Folder {
        /// Which one.
        folder: SitePath,
    },
    /// What a folder says of itself cannot be understood.
    FolderBroken {
        /// Which one.
        folder: SitePath,
        /// What is wrong with it.
        broken: Broken,
    },
    /// A folder lets nobody in.
    Refused {
        /// What it answers.
        status: StatusCode,
        /// Where that is written.
        place: Place,
    },
    /// The method is none that sites answer to, or one that asks which those are.
    Method {
        /// As the client wrote it.
        method: String,
    },
    /// The path leads to a place in the folder.
    Path {
        /// As the client wrote it.
        written: String,
        /// The place.
        place: SitePath,
    },
    /// The path leads nowhere.
    NoPath {
        /// As the client wrote it.
        written: String,
        /// Why.
        why: NoPath,
    },
    /// What came is hardly a request.
    Malformed {
        /// What is wrong with it.
        words: String,
    },
    /// No rule has answered, and the site has no folder.
    NoFolder,
    /// The address is sent to its tidy form.
    Tidied {
        /// That form.
        path: String,
        /// What was wrong with the one that the client wrote.
        why: Untidy,
    },
    /// Somebody looked what stands at a place.
    Looked {
        /// The place.
        at: SitePath,
        /// What stands there.
        found: Entry,
        /// Whether it was asked about because it may stand for its folder.
        as_index: bool,
    },
    /// There is no index file in a folder.
    Listing {
        /// Whether the folder is listed instead.
        on: bool,
        /// Where that is written.
        place: Option<Place>,
    },
    /// A codec was considered.
    Codec {
        /// Which one.
        codec: Codec,
        /// What came of it.
        verdict: Verdict,
    },
    /// The form in which the file is to be sent.
    Form {
        /// That form.
        form: Form,
        /// Its length in bytes, where it is known beforehand.
        bytes: Option<u64>,
    },
    /// The request is conditional.
    Condition {
        /// The fields that say so, as the client wrote them.
        fields: Vec<String>,
        /// What they come to.
        outcome: Outcome,
    },
    /// The client asks for parts.
    Range {
        /// As the client wrote it.
        written: String,
        /// What it comes to; `None` where `If-Range` no longer holds.
        ranges: Option<Ranges>,
    },
    /// An error has a page of the site's own.
    ErrorPage {
        /// The status.
        status: StatusCode,
        /// The page's path.
        page: String,
        /// Where it is written.
        place: Place,
    },
    /// The built-in page, or a problem as JSON, stands in.
    BuiltIn {
        /// The status.
        status: StatusCode,
        /// Whether the client prefers JSON.
        as_json: bool,
    },
}

/// What an address was untidy by.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Untidy {
    /// Several slashes in a row.
    Slashes,
    /// A folder without the slash at its end.
    Folder,
}

/// Why a codec was taken, or not.
#[derive(Debug, Clone, PartialEq)]
pub enum Verdict {
    /// It is used.
    Chosen,
    /// It is not among the site's `codecs`.
    NotConfigured,
    /// The type is not among those that are compressed.
    Type(SmolStr),
    /// The file is smaller than `at_least`.
    Small {
        /// Its length in bytes.
        bytes: u64,
        /// The least that is compressed.
        at_least: u64,
    },
    /// The agent is left out by this pattern of `not_for`.
    Agent(String),
    /// The client sent no `Accept-Encoding`.
    NothingAccepted,
    /// The client does not name it, or refuses it.
    NotAccepted,
    /// The client would rather have the body as it is.
    RatherPlain,
    /// The client likes another better: its quality value, and the best one.
    LessLiked(f32, f32),
    /// The file does not get smaller by it.
    NoGain,
    /// Another makes the file smaller: bytes by this codec where that is known, and by the other.
    Larger(Option<u64>, u64),
    /// The client likes it as well as the chosen one, which the site prefers while encodings have not settled.
    Later,
    /// Parts are asked for, and responses encoded on the fly have none.
    Parts,
}

impl Step {
    /// Where the cause of the step is written, if somebody wrote it.
    pub fn place(&self) -> Option<Place> {
        match self {
            Step::Site { place, .. }
            | Step::MainHost { place, .. }
            | Step::ToHttps { place }
            | Step::Rule { place, .. }
            | Step::RuleNot { place, .. }
            | Step::Login { place, .. }
            | Step::LoginNeedsHttps { place, .. }
            | Step::Refused { place, .. }
            | Step::Listing { place: Some(place), .. }
            | Step::ErrorPage { place, .. } => Some(place.clone()).filter(|place| !place.span.is_empty()),
            _ => None,
        }
    }

    /// What was decided about, in one word.
    pub fn about(&self) -> &'static str {
        match self {
            Step::Site { .. } | Step::NoSite { .. } | Step::NoHost | Step::MainHost { .. } => "host",
            Step::ToHttps { .. } => "https",
            Step::Rule { .. } | Step::RuleNot { .. } => "rule",
            Step::Served { .. } => "path",
            Step::Sent { .. } | Step::ToItself { .. } => "redirect",
            Step::Login { .. } | Step::LoginNeedsHttps { .. } => "login",
            Step::Folder { .. } | Step::FolderBroken { .. } | Step::Refused { .. } => "folder",
            Step::Method { .. } => "method",
            Step::Path { .. }
            | Step::NoPath { .. }
            | Step::Malformed { .. }
            | Step::NoFolder
            | Step::Tidied { .. } => "path",
            Step::Looked { .. } => "disk",
            Step::Listing { .. } => "listing",
            Step::Codec { codec, .. } => codec.name(),
            Step::Form { .. } => "form",
            Step::Condition { .. } => "condition",
            Step::Range { .. } => "range",
            Step::ErrorPage { .. } | Step::BuiltIn { .. } => "page",
        }
    }

    /// The step in words.
    pub fn words(&self) -> String {
        match self {
            Step::Site { host, site, as_default: false, .. } => format!("`{host}` is a host of `{site}`"),
            Step::Site { host, site, as_default: true, .. } => {
                format!("`{host}` is not a host of any site; `{site}` is the default")
            }
            Step::NoSite { host } => format!("no site has the host `{host}`, and none is the default"),
            Step::NoHost => "the request does not name exactly one host".to_owned(),
            Step::MainHost { host, .. } => format!("sent to the main host `{host}`, path and query kept"),
            Step::ToHttps { .. } => "sent to HTTPS, path and query kept".to_owned(),
            Step::Rule { name, effects, .. } => format!("`{name}` fits: {}", effects.join(", ")),
            Step::RuleNot { name, why, .. } => format!("`{name}` does not fit: {}", why.words()),
            Step::Served { path } => format!("{path} is served instead"),
            Step::Sent { target, status } => format!("sent to {target} ({})", status.as_u16()),
            Step::ToItself { target } => {
                format!("redirects to {target}, which is the requested URL: a redirect loop")
            }
            Step::Login { realm, user: None, .. } => format!("asks for a name and a password of `{realm}`"),
            Step::Login { realm, user: Some((user, Password::Right)), .. } => {
                format!("`{user}` of `{realm}` has signed in")
            }
            Step::Login { realm, user: Some((user, Password::Wrong)), .. } => {
                format!("wrong password for `{user}` of `{realm}`, or no such user")
            }
            Step::Login { realm, user: Some((user, Password::Unchecked { .. })), .. } => format!(
                "the password of `{user}` of `{realm}` was not checked: too many attempts from this address"
            ),
            Step::LoginNeedsHttps { realm, .. } => {
                format!("`{realm}` asks for passwords over HTTPS only (`without_https` is off)")
            }
            Step::Folder { folder } => format!("{folder} has settings of its own"),
            Step::FolderBroken { folder, broken } => {
                format!(
                    "the settings of {folder} cannot be understood: line {}: {}",
                    broken.line, broken.message
                )
            }
            Step::Refused { status, .. } => format!("the folder refuses access ({})", status.as_u16()),
            Step::Method { method } if method == "OPTIONS" => "asks what may be asked".to_owned(),
            Step::Method { method } => format!("`{method}`: method not allowed; GET, HEAD and OPTIONS are"),
            Step::Path { written, place } if is_same(written, place) => written.clone(),
            Step::Path { written, place } => format!("{written} is {place}"),
            Step::NoPath { written, why: NoPath::Malformed } => {
                format!("{written} is a malformed path")
            }
            Step::NoPath { written, why: NoPath::Nowhere } => {
                format!("{written} is hidden or impossible: names beginning with a dot are never served")
            }
            Step::Malformed { words } => words.clone(),
            Step::NoFolder => "no rule answers, and the site has no folder".to_owned(),
            Step::Tidied { path, why: Untidy::Slashes } => {
                format!("several slashes in a row: sent to {path}, query kept")
            }
            Step::Tidied { path, why: Untidy::Folder } => {
                format!("a folder's address ends with a slash: sent to {path}, query kept")
            }
            Step::Looked { at, found, as_index } => {
                let what = match found {
                    Entry::File(file) => format!("a file of {} bytes", file.size),
                    Entry::Folder => "a folder".to_owned(),
                    Entry::Missing => "nothing".to_owned(),
                    Entry::Forbidden => "something that the service may not read".to_owned(),
                    Entry::Failed => "something that gives an I/O error".to_owned(),
                };
                format!("at {at} there is {what}{}", if *as_index { " (index)" } else { "" })
            }
            Step::Listing { on: true, .. } => "no index file: what is in the folder is listed".to_owned(),
            Step::Listing { on: false, .. } => "no index file, and `listing` is off".to_owned(),
            Step::Codec { verdict, .. } => verdict.words(),
            Step::Form { form, bytes } => {
                let form = match form {
                    Form::Plain => "as it is".to_owned(),
                    Form::Quick(codec) => format!("{}, encoded on the fly", codec.name()),
                    Form::Settled(codec) => format!("{}, settled", codec.name()),
                    Form::Ready(codec) => format!("{}, ready-made beside it", codec.name()),
                };
                match bytes {
                    Some(bytes) => format!("{form}: {bytes} bytes"),
                    None => form,
                }
            }
            Step::Condition { fields, outcome } => {
                let outcome = match outcome {
                    Outcome::Proceed => "send it",
                    Outcome::NotModified => "the client has it already",
                    Outcome::Failed => "it is not what the client expects",
                };
                format!("{}: {outcome}", fields.join(", "))
            }
            Step::Range { written, ranges } => match ranges {
                None => format!("{written} does not count: If-Range names something else"),
                Some(Ranges::Ignored) => {
                    format!("{written} is not understood, or asks for too much at once: the whole")
                }
                Some(Ranges::Parts(parts)) if parts.len() == 1 => format!("{written}: one part"),
                Some(Ranges::Parts(parts)) => format!("{written}: {} parts", parts.len()),
                Some(Ranges::Outside) => format!("{written}: there is no such part"),
            },
            Step::ErrorPage { status, page, .. } => {
                format!("{} has a page of the site's own: {page}", status.as_u16())
            }
            Step::BuiltIn { status, as_json: false } => format!("the built-in page for {}", status.as_u16()),
            Step::BuiltIn { status, as_json: true } => {
                format!("the client prefers JSON: a problem for {}", status.as_u16())
            }
        }
    }
}

impl Why {
    /// The reason in words.
    pub fn words(&self) -> String {
        match self {
            Why::Path(path) => format!("it is about {path}"),
            Why::Other { asked, value } => format!("it asks for {asked}; here it is {value}"),
            Why::Absent { asked } => format!("it asks for {asked}; here there is none"),
            Why::Unknown { asked } => format!("it asks for {asked}, which nobody knows"),
        }
    }
}

/// Whether a path means the very place that it names, but for a slash at its end.
fn is_same(written: &str, place: &SitePath) -> bool {
    written.trim_matches('/') == place.as_str()
}

impl Verdict {
    /// Whether the codec is used.
    pub fn is_chosen(&self) -> bool {
        matches!(self, Verdict::Chosen)
    }

    /// The verdict in words.
    pub fn words(&self) -> String {
        match self {
            Verdict::Chosen => "used".to_owned(),
            Verdict::NotConfigured => "not among the site's `codecs`".to_owned(),
            Verdict::Type(essence) => format!("{essence} is not among the `types` that are compressed"),
            Verdict::Small { bytes, at_least } => {
                format!("the file has {bytes} bytes, less than `at_least` ({at_least})")
            }
            Verdict::Agent(pattern) => format!("this agent is left out by `not_for`: {pattern}"),
            Verdict::NothingAccepted => "the client sent no Accept-Encoding".to_owned(),
            Verdict::NotAccepted => "the client does not accept it".to_owned(),
            Verdict::RatherPlain => "the client prefers the uncompressed file".to_owned(),
            Verdict::LessLiked(liked, most) => {
                format!("the client prefers another (quality {liked} against {most})")
            }
            Verdict::NoGain => "the file does not get smaller by it".to_owned(),
            Verdict::Larger(Some(bytes), other) => format!("{bytes} bytes; another gives {other}"),
            Verdict::Larger(None, other) => format!("not made: another is there already, with {other} bytes"),
            Verdict::Later => "accepted as well; another is preferred until encodings settle".to_owned(),
            Verdict::Parts => "a range is requested, and responses encoded on the fly have none".to_owned(),
        }
    }
}
