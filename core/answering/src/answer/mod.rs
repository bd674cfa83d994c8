//! What a request is answered with: a pure function that asks, and never looks.
//!
//! [`answer`] takes the configuration and the facts of a request; [`Decision::by`] decides by whoever knows the site's
//! [`Folder`]: the caches of the service, a disk, or a tree in memory.
//!
//! - [`folder`]: what is asked of a folder, and a folder in memory
//! - [`decide`]: the order in which things are decided; [`stage`]: what it waits for; [`suspended`]: how it goes on
//! - [`home`]: which site a host leads to, and where a request belongs
//! - [`absolute`]: whole addresses, and which site they lead into
//! - [`steering`]: rules, and what folders say of themselves; [`added`]: what they add up to
//! - [`login`]: asking for name and password
//! - [`sending`]: what is sent once the place is known
//! - [`path`]: from what a client wrote to a place inside the site's folder, and nowhere else
//! - [`conditions`]: conditional requests (RFC 9110 §13)
//! - [`ranges`]: parts of a file (RFC 9110 §14)
//! - [`negotiate`]: which content coding (RFC 9110 §12.5.3), and whether JSON is preferred
//! - [`listing`]: what is in a folder
//! - [`represent`]: the form a file is sent in, with its header fields
//! - [`malformed`]: requests whose target or host is none
//! - [`pages`]: the built-in pages
//! - [`trace`]: the steps that led to an answer; [`verdicts`]: why each codec was taken, or not
//!
//! ```
//! use exedra_answering::config::understand;
//! let text = "[[listener]]\naddress = \"127.0.0.1:0\"\n[[site]]\nname = \"a\"\nhosts = [\"a.example\"]\nfolder = \"a\"\n";
//! let config = understand(text, std::path::Path::new("")).unwrap();
//! use exedra_answering::answer::{Body, Credentials, SitePath, Tree, answer};
//! use exedra_answering::facts::{Facts, Known};
//! let facts = Facts { host: Known::Is("a.example"), method: Known::Is("GET"), path: Known::Is("/fog"), ..Facts::UNKNOWN };
//! let Ok((found, ())) = answer(&config, facts).by(&Tree::default().file("fog", 120));
//! assert!(matches!(&found.body, Body::File { path, .. } if *path == SitePath::root().join("fog")));
//! assert!(found.is_for_same_octets(), "it may be remembered: nothing but the request had a say");
//! let secret = Credentials { realm: 0, user: "mara".to_owned(), password: "ebb".to_owned() };
//! assert!(!format!("{secret:?}").contains("ebb"), "passwords are shown to nobody");
//! ```

pub mod absolute;
mod added;
pub mod conditions;
pub mod decide;
pub mod folder;
pub mod home;
pub mod listing;
mod login;
pub mod malformed;
pub mod negotiate;
pub mod pages;
pub mod path;
pub mod ranges;
pub mod represent;
mod sending;
mod stage;
pub mod steering;
mod suspended;
pub mod trace;
pub mod verdicts;

pub use decide::{answer, answer_traced, over_allowance, too_many};
pub use folder::{Folder, Found, LettingIn, Tree};
pub use malformed::{Malformed, malformed};
pub use path::SitePath;
pub use represent::FileMetadata;
pub use suspended::Suspended;
pub use trace::{Cause, Observer, Step, Trace};

use crate::config::{FolderSettings, SiteId};
use crate::encode::Codec;
use crate::facts::{Dependence, FactName};
use crate::rules::Limit;
use http::{HeaderMap, HeaderValue, StatusCode, header};
use listing::Listed;
use smallvec::SmallVec;
use smol_str::SmolStr;
use std::ops::Range;
use std::sync::Arc;

/// What becomes of a request.
#[derive(Debug, Clone)]
pub struct Answer {
    /// Status.
    pub status: StatusCode,
    /// Header fields, all but those that depend on the length of the body.
    pub headers: HeaderMap,
    /// Where the body comes from.
    pub body: Body,
    /// Whether the body itself stays here (`HEAD`).
    pub head_only: bool,
    /// The site that answers, where one does.
    pub site: Option<SiteId>,
    /// What had a say, besides what was asked for and what stands on the disk.
    pub depends: Dependence,
    /// What would have had a say that is not known, where something would.
    pub unsure: Option<Box<Unsure>>,
    /// What rules oblige whoever sends it to.
    pub obligations: Option<Box<Obligations>>,
    /// Why it is no success, where something failed.
    pub cause: Option<Box<Cause>>,
}

impl Answer {
    /// Whether whoever sends the same octets by the same scheme may be given it again, for as long as the disk stays as
    /// it is, without deciding anew.
    pub fn is_for_same_octets(&self) -> bool {
        let is_free = |obligations: &Obligations| {
            obligations.limits.is_empty()
                && !obligations.within_allowance
                && obligations.log
                && obligations.user.is_none()
        };
        !self.depends.is_beyond_octets() && self.obligations.as_deref().is_none_or(is_free)
    }

    /// Tells caches on the way what the answer depends on (RFC 9111 §4.1): fields by `Vary`, which no rule can set; and
    /// that an answer made for one client is no other's, unless a rule has said how it may be kept.
    fn tell_caches(&mut self) {
        let names: Vec<String> = self.depends.vary().map(in_capitals).collect();
        if !names.is_empty() {
            represent::insert(&mut self.headers, header::VARY, &names.join(", "));
        }
        if self.depends.is_on_client() && !self.headers.contains_key(header::CACHE_CONTROL) {
            self.headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("private"));
        }
    }
}

/// The name of a field as people write it.
fn in_capitals(name: &http::HeaderName) -> String {
    let mut begins = true;
    let letter = |letter: char| {
        let capital = std::mem::replace(&mut begins, letter == '-');
        if capital { letter.to_ascii_uppercase() } else { letter }
    };
    name.as_str().chars().map(letter).collect()
}

/// What rules oblige whoever sends an answer to.
#[derive(Debug, Clone, Default)]
pub struct Obligations {
    /// How much the client may take.
    pub limits: SmallVec<[Limit; 1]>,
    /// Whether it is sent only while the month's allowance lasts.
    pub within_allowance: bool,
    /// Whether the request is logged.
    pub log: bool,
    /// Who has signed in.
    pub user: Option<SmolStr>,
    /// The site's rules that have fitted, by their numbers.
    pub fired: SmallVec<[u32; 2]>,
    /// The rule that answered, or led to what answered.
    pub rule: Option<SmolStr>,
}

/// A name and a password, and the realm whose users may be asked for.
#[derive(Clone, PartialEq, Eq)]
pub struct Credentials {
    /// The number of the realm.
    pub realm: usize,
    /// The name.
    pub user: String,
    /// The password.
    pub password: String,
}

impl std::fmt::Debug for Credentials {
    /// Passwords are shown to nobody.
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.debug_struct("Credentials")
            .field("realm", &self.realm)
            .field("user", &self.user)
            .finish_non_exhaustive()
    }
}

/// What would have had a say and is not known: a log has no cookies.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unsure {
    /// The facts that were asked for.
    pub facts: SmallVec<[FactName; 1]>,
    /// The rules that asked, in order.
    pub rules: Vec<UnsureRule>,
}

/// A rule that asked for a fact that is not known.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UnsureRule {
    /// Its number, among those of the site or of the folder.
    pub number: usize,
    /// The folder in whose own file it stands; otherwise it is one of the site's.
    pub folder: Option<SitePath>,
}

/// What is known of a password.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Password {
    /// It is right.
    Right,
    /// It is wrong, or there is no such user.
    Wrong,
    /// Nobody has looked: too many are being tried already. In so many seconds one may come again.
    Unchecked {
        /// Those seconds.
        seconds: u64,
    },
}

impl From<bool> for Password {
    fn from(is_right: bool) -> Self {
        if is_right { Password::Right } else { Password::Wrong }
    }
}

/// What the folders on the way to a place say of themselves: those that say something, from the site's own down.
#[derive(Debug, Default)]
pub struct FolderChain {
    /// These.
    pub levels: Vec<FolderLevel>,
}

/// What one folder says of itself.
#[derive(Debug)]
pub struct FolderLevel {
    /// Which one.
    pub folder: SitePath,
    /// How many folders down it is.
    pub depth: usize,
    /// What it says, or what is wrong with that.
    pub settings: Result<Arc<FolderSettings>, Broken>,
}

/// A folder's settings that cannot be understood.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Broken {
    /// The line of the first mistake, counted from 1.
    pub line: usize,
    /// What is wrong.
    pub message: String,
}

/// Where the body of an answer comes from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Body {
    /// There is none, not even an empty one to be announced.
    None,
    /// A page made here.
    Page(String),
    /// A page made here that is to be encoded on its way.
    PageEncoded(String, Codec),
    /// A file of the site, perhaps encoded.
    File {
        /// Which one.
        path: SitePath,
        /// In which form.
        form: Form,
    },
    /// Parts of a file of the site, with what stands between them.
    Parts {
        /// Which one.
        path: SitePath,
        /// In which form.
        form: Form,
        /// What to send, in order.
        pieces: Vec<Piece>,
    },
}

/// In which form a file is sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// As it is.
    Plain,
    /// Encoded in passing: not octet for octet the same each time.
    Quick(Codec),
    /// As it was encoded thoroughly, and kept.
    Settled(Codec),
    /// As somebody encoded it beforehand, in a file beside it.
    Ready(Codec),
}

impl Form {
    /// The coding, where there is one.
    pub fn codec(self) -> Option<Codec> {
        match self {
            Form::Plain => None,
            Form::Quick(codec) | Form::Settled(codec) | Form::Ready(codec) => Some(codec),
        }
    }
}

/// What is known of a file's encoding by one codec.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Encoded {
    /// Nothing.
    #[default]
    Unknown,
    /// It does not get smaller.
    NoGain,
    /// Encoded thoroughly, and kept: its length in bytes.
    Settled(u64),
    /// Encoded beforehand, in a file beside it, which is newer.
    Ready(FileFacts),
}

/// What is known of a file's encodings, in the order of [`Codec::ALL`].
pub type Encodings = [Encoded; Codec::ALL.len()];

/// A piece of a body that is put together.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Piece {
    /// These octets.
    Octets(Vec<u8>),
    /// This part of the file.
    File(Range<u64>),
}

/// Something an answer depends on that only the folder can tell.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Question {
    /// The site whose folder is asked about.
    pub site: SiteId,
    /// The place in it.
    pub path: SitePath,
    /// What is to be known of it.
    pub want: Want,
}

/// What a question wants to know of a place.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Want {
    /// What stands there?
    Entry,
    /// What is in the folder there?
    Names,
    /// What is known of the encodings of the file there?
    Encodings,
    /// What do the folders on the way there say of themselves, and the one there?
    Settings,
}

/// The reply to a question.
#[derive(Debug, Clone)]
enum Reply {
    /// What stands there.
    Found(Found),
    /// What is in the folder.
    Names(Arc<[Listed]>),
    /// What is known of the file's encodings.
    Encodings(Encodings),
    /// What the folders on the way say of themselves; nothing, where none of them does.
    Settings(Option<Arc<FolderChain>>),
    /// Whether a name and a password belong together, and to the realm.
    Login(Password),
}

/// What stands at a place in a site's folder.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Entry {
    /// A file.
    File(FileFacts),
    /// A folder.
    Folder,
    /// Nothing, or something that lies outside the site's folder.
    Missing,
    /// Something that the service may not read.
    Forbidden,
    /// The disk failed.
    Failed,
}

/// What is known of a file without reading it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct FileFacts {
    /// Its length in bytes.
    pub size: u64,
    /// When it last changed, in nanoseconds since 1970 UTC. Whoever writes a file may set it to anything.
    pub modified: i128,
    /// What nobody can set: differs whenever the file was written to, or another took its place.
    pub stamp: u64,
}

impl FileFacts {
    /// When it last changed, in whole seconds since 1970 UTC, as header fields tell it.
    pub fn changed(&self) -> i64 {
        i64::try_from(self.modified.div_euclid(1_000_000_000)).unwrap_or(i64::MAX)
    }
}

/// What [`answer`] comes back with: a decision, made as far as it needs no folder.
#[derive(Debug)]
pub enum Decision<'a, W = ()> {
    /// The answer, and the observer of how it came about.
    Done(Answer, W),
    /// A question, and what waits for the reply to it.
    Ask(Question, Suspended<'a, W>),
    /// Whether a password is right, and what waits for that.
    Login(Credentials, Suspended<'a, W>),
}

impl<W: Observer> Decision<'_, W> {
    /// Decides by a folder. The error is what has to be fetched before that is possible.
    pub fn by<F: Folder + ?Sized>(self, folder: &F) -> Result<(Answer, W), F::Missing> {
        let mut decision = self;
        loop {
            decision = match decision {
                Decision::Done(answer, observer) => return Ok((answer, observer)),
                Decision::Ask(question, suspended) => suspended.resume(match question.want {
                    Want::Entry => Reply::Found(folder.entry(&question)?),
                    Want::Names => match folder.names(&question)? {
                        Ok(names) => Reply::Names(names),
                        Err(entry) => Reply::Found(Found::Entry(entry)),
                    },
                    Want::Encodings => Reply::Encodings(folder.encodings(&question)?),
                    Want::Settings => Reply::Settings(folder.settings(&question)?),
                }),
                Decision::Login(credentials, suspended) => {
                    suspended.resume(Reply::Login(folder.login(&credentials)?))
                }
            };
        }
    }
}
