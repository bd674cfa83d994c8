//! From the path a client wrote to a place inside the site's folder.
//!
//! A [`SitePath`] can only be made here, so whatever holds one holds a path that names no hidden file, climbs
//! out of nothing and contains no octet that a file system could take for something else. (That no link
//! leads out of the folder is for whoever opens it to see to.) Before that, a path is made [`Tidy`]: rules see
//! that form, also of paths that lead to no place.
//!
//! ```
//! use exedra_answering::answer::path::{NoPath, SitePath, resolve, tidy};
//! let found = resolve("/tides/./2026//fog.html").unwrap();
//! assert_eq!((found.place.as_str(), found.tidy.untidy), ("tides/2026/fog.html", true));
//! assert_eq!(resolve("/staff/.users").unwrap_err(), NoPath::Nowhere);
//! assert_eq!(tidy("tides").unwrap_err(), NoPath::Malformed);
//! let folder = SitePath::root().join("tides");
//! assert_eq!((folder.address(), folder.depth()), ("/tides".to_owned(), 1));
//! ```

use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, percent_decode_str, utf8_percent_encode};
use smol_str::{SmolStr, format_smolstr};
use std::borrow::Cow;
use std::fmt;

/// The folder whose hidden name is served all the same (RFC 8615).
const WELL_KNOWN: &str = ".well-known";

/// A place inside a site's folder: names joined by slashes, without one at either end. Empty is the folder itself.
/// Cheap to clone: every request makes some.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct SitePath(SmolStr);

impl SitePath {
    /// The path as a relative one of the file system.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The place of a file in the folder that this is. `name` is from the configuration, which has been checked.
    #[must_use]
    pub fn join(&self, name: &str) -> SitePath {
        match self.0.as_str() {
            "" => SitePath(name.into()),
            folder => SitePath(format_smolstr!("{folder}/{name}")),
        }
    }
}

/// What stays as it is in the path of an address, the slash included (RFC 3986 §3.3).
const IN_ADDRESS: &AsciiSet = &NON_ALPHANUMERIC
    .remove(b'/')
    .remove(b'-')
    .remove(b'.')
    .remove(b'_')
    .remove(b'~')
    .remove(b'!')
    .remove(b'$')
    .remove(b'&')
    .remove(b'\'')
    .remove(b'(')
    .remove(b')')
    .remove(b'*')
    .remove(b'+')
    .remove(b',')
    .remove(b';')
    .remove(b'=')
    .remove(b':')
    .remove(b'@');

/// A path as it stands in an address, of one whose letters are what they are.
pub fn encoded(path: &str) -> String {
    utf8_percent_encode(path, IN_ADDRESS).to_string()
}

impl SitePath {
    /// The place of that name, with slashes between the names of folders; `None` where no address leads there.
    pub fn of_names(names: &str) -> Option<SitePath> {
        let path = match names.is_empty() {
            true => "/".to_owned(),
            false => format!("/{}", encoded(names)),
        };
        tidy(&path).ok()?.place().ok().filter(|place| place.as_str() == names)
    }

    /// Its address at its site: a path, encoded.
    pub fn address(&self) -> String {
        format!("/{}", encoded(self.as_str()))
    }

    /// The site's folder itself.
    pub fn root() -> SitePath {
        SitePath(SmolStr::default())
    }

    /// The folder that this is in; the site's folder is in itself.
    #[must_use]
    pub fn parent(&self) -> SitePath {
        SitePath(self.0.rsplit_once('/').map_or(SmolStr::default(), |(folder, _)| folder.into()))
    }

    /// How many folders down it is.
    pub fn depth(&self) -> usize {
        match self.0.is_empty() {
            true => 0,
            false => 1 + memchr::memchr_iter(b'/', self.0.as_bytes()).count(),
        }
    }

    /// The folders on the way to this one, from the site's own to itself.
    pub fn ways(&self) -> impl Iterator<Item = SitePath> + '_ {
        let ends =
            self.0.match_indices('/').map(|(at, _)| at).chain((!self.0.is_empty()).then_some(self.0.len()));
        std::iter::once(SitePath::root()).chain(ends.map(|end| SitePath(self.0[..end].into())))
    }

    /// A place below this folder.
    #[must_use]
    pub fn join_path(&self, below: &SitePath) -> SitePath {
        match below.0.as_str() {
            "" => self.clone(),
            below => self.join(below),
        }
    }

    /// The place beside this one whose name has an extension more.
    #[must_use]
    pub fn with_extension(&self, extension: &str) -> SitePath {
        SitePath(format_smolstr!("{}.{extension}", self.0))
    }
}

impl fmt::Display for SitePath {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(out, "/{}", self.0)
    }
}

/// What a client's path comes to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Resolved<'p> {
    /// The place in the folder.
    pub place: SitePath,
    /// The same path, tidy.
    pub tidy: Tidy<'p>,
}

/// A path with dot segments and empty ones removed, still encoded as the client wrote it. It begins with exactly one slash.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tidy<'p> {
    /// That path.
    pub written: Cow<'p, str>,
    /// Whether it ends with a slash.
    pub as_folder: bool,
    /// Whether it had empty segments, so that visitors should be shown the tidy one.
    pub untidy: bool,
}

/// Why a path leads nowhere.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NoPath {
    /// It is no path at all: 400.
    Malformed,
    /// No such thing can exist here: 404.
    Nowhere,
}

/// Finds the place that a path means.
pub fn resolve(path: &str) -> Result<Resolved<'_>, NoPath> {
    let tidy = tidy(path)?;
    Ok(Resolved { place: tidy.place()?, tidy })
}

/// Removes dot segments as RFC 3986 §5.2.4 says, also encoded ones, and empty ones.
pub fn tidy(path: &str) -> Result<Tidy<'_>, NoPath> {
    let rest = path.strip_prefix('/').ok_or(NoPath::Malformed)?;
    if is_plain(path) {
        let as_folder = rest.is_empty() || rest.ends_with('/');
        return Ok(Tidy { written: Cow::Borrowed(path), as_folder, untidy: false });
    }
    let mut names: Vec<&str> = Vec::new();
    let (mut untidy, mut as_folder) = (false, true);
    let mut segments = rest.split('/').peekable();
    while let Some(written) = segments.next() {
        let is_last = segments.peek().is_none();
        check_encoding(written)?;
        let dots = dots(written);
        as_folder = written.is_empty() || dots > 0;
        match dots {
            _ if written.is_empty() => untidy |= !is_last,
            1 => {}
            2 => _ = names.pop(),
            _ => names.push(written),
        }
    }
    let mut tidy = String::with_capacity(path.len());
    for written in &names {
        tidy.push('/');
        for octet in written.bytes() {
            match octet {
                // A browser takes a backslash for a slash, and two slashes for another host.
                0x21..0x7f if octet != b'\\' => tidy.push(char::from(octet)),
                _ => tidy.push_str(percent_encoding::percent_encode_byte(octet)),
            }
        }
    }
    if as_folder {
        tidy.push('/');
    }
    Ok(Tidy { written: Cow::Owned(tidy), as_folder, untidy })
}

impl Tidy<'_> {
    /// The place in the folder.
    pub fn place(&self) -> Result<SitePath, NoPath> {
        let path = self.written.as_ref();
        let rest = path.strip_prefix('/').ok_or(NoPath::Malformed)?.trim_end_matches('/');
        if is_plain(path) {
            return Ok(SitePath(rest.into()));
        }
        let mut place = String::with_capacity(rest.len());
        for (depth, written) in rest.split('/').filter(|written| !written.is_empty()).enumerate() {
            let name = percent_decode_str(written).decode_utf8().map_err(|_| NoPath::Nowhere)?;
            if is_hidden(depth, &name) || name.contains(['/', '\\']) {
                return Err(NoPath::Nowhere);
            }
            if depth > 0 {
                place.push('/');
            }
            place.push_str(&name);
        }
        Ok(SitePath(place.into()))
    }

    /// The same, holding its own text.
    pub fn into_owned(self) -> Tidy<'static> {
        Tidy {
            written: Cow::Owned(self.written.into_owned()),
            as_folder: self.as_folder,
            untidy: self.untidy,
        }
    }
}

/// Whether a name, so many folders below the site's own, is nobody's business: it begins with a dot, and is not where RFC
/// 8615 wants things to be found.
pub fn is_hidden(depth: usize, name: &str) -> bool {
    name.starts_with('.') && !(depth == 0 && name == WELL_KNOWN)
}

/// Whether a path means just what it says: nothing encoded, no dot or slash after a slash, nothing unusual.
fn is_plain(path: &str) -> bool {
    let mut last = 0;
    path.bytes().all(|octet| {
        let plain = match octet {
            b'.' | b'/' => last != b'/',
            b'%' | b'\\' => false,
            octet => matches!(octet, 0x21..0x7f),
        };
        last = octet;
        plain
    })
}

fn check_encoding(segment: &str) -> Result<(), NoPath> {
    let octets = segment.as_bytes();
    let sound = |at: usize| {
        let digits = octets.get(at + 1..at + 3);
        digits.is_some_and(|digits| digits.iter().all(u8::is_ascii_hexdigit) && digits != b"00")
    };
    match octets.contains(&0) || memchr::memchr_iter(b'%', octets).any(|at| !sound(at)) {
        true => Err(NoPath::Malformed),
        false => Ok(()),
    }
}

/// How many dots a segment consists of, where it consists of one or two, encoded or not.
fn dots(segment: &str) -> usize {
    let mut rest = segment;
    let mut dots = 0;
    while !rest.is_empty() {
        let encoded = rest.get(..3).is_some_and(|triple| triple.eq_ignore_ascii_case("%2e"));
        rest = match (encoded, rest.strip_prefix('.')) {
            (true, _) => &rest[3..],
            (false, Some(rest)) => rest,
            (false, None) => return 0,
        };
        dots += 1;
    }
    if dots > 2 { 0 } else { dots }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case::root("/", Ok(("", "/")))]
    #[case::file("/tides/today.html", Ok(("tides/today.html", "/tides/today.html")))]
    #[case::folder("/tides/", Ok(("tides", "/tides/")))]
    #[case::dots("/a/./b/../c", Ok(("a/c", "/a/c")))]
    #[case::climbing("/../../etc/passwd", Ok(("etc/passwd", "/etc/passwd")))]
    #[case::climbing_encoded("/a/%2e%2E/%2e%2e/etc/passwd", Ok(("etc/passwd", "/etc/passwd")))]
    #[case::last_dots("/a/b/..", Ok(("a", "/a/")))]
    #[case::double_slash("//evil.example/x", Ok(("evil.example/x", "/evil.example/x")))]
    #[case::space("/a%20b", Ok(("a b", "/a%20b")))]
    #[case::letters("/s%C3%A6l", Ok(("sæl", "/s%C3%A6l")))]
    #[case::letters_bare("/sæl", Ok(("sæl", "/s%C3%A6l")))]
    #[case::well_known("/.well-known/security.txt", Ok((".well-known/security.txt", "/.well-known/security.txt")))]
    #[case::hidden("/.git/config", Err(NoPath::Nowhere))]
    #[case::hidden_encoded("/a/%2egit/config", Err(NoPath::Nowhere))]
    #[case::hidden_deep("/a/.well-known/x", Err(NoPath::Nowhere))]
    #[case::slash_encoded("/a%2fb", Err(NoPath::Nowhere))]
    #[case::climbing_slash_encoded("/..%2f..%2fetc", Err(NoPath::Nowhere))]
    #[case::backslash("/a%5c..%5cb", Err(NoPath::Nowhere))]
    #[case::no_utf8("/%ff", Err(NoPath::Nowhere))]
    #[case::nul("/a%00.html", Err(NoPath::Malformed))]
    #[case::half_encoded("/a%2", Err(NoPath::Malformed))]
    #[case::no_hex("/a%zz", Err(NoPath::Malformed))]
    #[case::relative("a", Err(NoPath::Malformed))]
    fn paths(#[case] path: &str, #[case] expected: Result<(&str, &str), NoPath>) {
        let found =
            resolve(path).map(|resolved| (resolved.place.to_string(), resolved.tidy.written.into_owned()));
        assert_eq!(found, expected.map(|(place, tidy)| (format!("/{place}"), tidy.to_owned())));
    }

    proptest! {
        #[test]
        fn nothing_leaves_the_folder(path in "/([./\\\\a%2eE5cCfF0-]|%2e|%2f|%5c|\\PC){0,24}") {
            if let Ok(found) = resolve(&path) {
                prop_assert!(found.place.0.split('/').all(|name| name != ".." && name != "."));
                prop_assert!(!found.place.0.starts_with('/') && !found.place.0.contains(['\0', '\\']));
                let tidy = &found.tidy.written;
                prop_assert!(tidy.starts_with('/') && !tidy.starts_with("//"));
                prop_assert_eq!(resolve(tidy).map(|again| again.place), Ok(found.place));
            }
        }
    }
}
