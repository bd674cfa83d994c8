//! What a page of HTML says of itself and leads to: its title, its first heading, its links with the lines they stand in and their words.
//!
//! It reads tags as browsers do, as far as that matters here: comments, scripts and styles lead nowhere, attributes may be quoted or not.
//!
//! ```
//! use exedra_acting::findings::html::read;
//! let page = read("<title>Tides &amp; fog</title>\n<h1>Tides</h1>\n<a href=/notices/>All\n notices</a> <img src='map.svg'>");
//! assert_eq!((&*page.title, &*page.heading), ("Tides & fog", "Tides"));
//! assert_eq!((&*page.links[0].target, &*page.links[0].words, page.links[0].line), ("/notices/", "All notices", 3));
//! assert_eq!((&*page.links[1].target, page.links[1].line), ("map.svg", 4));
//! ```

/// How many links of a page are kept.
const MOST_LINKS: usize = 2_000;

/// What a page says and leads to.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct PageText {
    /// Its title.
    pub title: String,
    /// Its first heading.
    pub heading: String,
    /// Its links, and what it loads.
    pub links: Vec<Link>,
}

/// A link, or something that a page loads.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Link {
    /// What it leads to, as it is written.
    pub target: String,
    /// The words of the link.
    pub words: String,
    /// The line that it stands in, counted from 1.
    pub line: usize,
}

/// Reads a page.
pub fn read(text: &str) -> PageText {
    let mut page = PageText::default();
    let (mut at, mut counted, mut line) = (0, 0, 1);
    // What is being read: the words of a link, of the title or of the heading.
    let mut open: Option<(&'static str, String)> = None;
    while let Some(begin) = text[at..].find('<').map(|found| at + found) {
        if let Some((_, words)) = &mut open {
            words.push_str(&text[at..begin]);
        }
        line += text[counted..begin].matches('\n').count();
        counted = begin;
        let rest = &text[begin..];
        if rest.starts_with("<!--") {
            at = rest.find("-->").map_or(text.len(), |end| begin + end + 3);
            continue;
        }
        let Some(tag) = Tag::of(rest) else {
            at = begin + 1;
            continue;
        };
        at = begin + tag.length;
        let name = tag.name.as_str();
        if matches!(name, "script" | "style") {
            push(&mut page, tag.attribute("src"), line);
            let end = format!("</{name}");
            let close = text[at..].to_ascii_lowercase().find(&end);
            at = close.map_or(text.len(), |close| at + close);
            continue;
        }
        match name {
            "a" | "area" if push(&mut page, tag.attribute("href"), line) => {
                open = Some(("/a", String::new()))
            }
            "link" => _ = push(&mut page, tag.attribute("href"), line),
            "img" | "source" | "audio" | "video" | "iframe" | "embed" => {
                push(&mut page, tag.attribute("src"), line);
            }
            "title" => open = Some(("/title", String::new())),
            "h1" if page.heading.is_empty() => open = Some(("/h1", String::new())),
            _ => {}
        }
        if let Some((_, words)) = open.take_if(|(close, _)| *close == name) {
            let words = tidy(&words);
            match name {
                "/title" => page.title = words,
                "/h1" => page.heading = words,
                _ => {
                    if let Some(link) = page.links.last_mut() {
                        link.words = words;
                    }
                }
            }
        }
    }
    page
}

fn push(page: &mut PageText, target: Option<String>, line: usize) -> bool {
    let Some(target) = target.filter(|target| !target.is_empty() && page.links.len() < MOST_LINKS) else {
        return false;
    };
    page.links.push(Link { target, words: String::new(), line });
    true
}

/// Words with one space between them, and the commonest references as what they stand for.
fn tidy(words: &str) -> String {
    let plain = plain(words);
    plain.split_whitespace().collect::<Vec<_>>().join(" ")
}

fn plain(text: &str) -> String {
    let known =
        [("&lt;", "<"), ("&gt;", ">"), ("&quot;", "\""), ("&#39;", "'"), ("&nbsp;", " "), ("&amp;", "&")];
    known.into_iter().fold(text.to_owned(), |text, (reference, letter)| text.replace(reference, letter))
}

/// A tag: its name in small letters, with a slash where it closes.
struct Tag {
    name: String,
    attributes: Vec<(String, String)>,
    length: usize,
}

impl Tag {
    /// The tag that a text begins with; `None` where it begins with none.
    fn of(text: &str) -> Option<Tag> {
        let inside = text.strip_prefix('<')?;
        let length = inside.find(|letter: char| letter.is_ascii_whitespace() || letter == '>')?;
        let name = inside[..length].trim_end_matches('/').to_ascii_lowercase();
        let first = name.trim_start_matches('/').chars().next()?;
        if !first.is_ascii_alphabetic() {
            return None;
        }
        let mut tag = Tag { name, attributes: Vec::new(), length: 0 };
        let mut rest = &inside[length..];
        loop {
            rest = rest.trim_start_matches(|letter: char| letter.is_ascii_whitespace() || letter == '/');
            if let Some(after) = rest.strip_prefix('>') {
                tag.length = text.len() - after.len();
                return Some(tag);
            }
            let end =
                rest.find(|letter: char| letter.is_ascii_whitespace() || matches!(letter, '=' | '>' | '/'))?;
            if end == 0 {
                // An equals sign without a name.
                rest = &rest[1..];
                continue;
            }
            let name = rest[..end].to_ascii_lowercase();
            rest = rest[end..].trim_start();
            let Some(value) = rest.strip_prefix('=') else {
                tag.attributes.push((name, String::new()));
                continue;
            };
            let value = value.trim_start();
            let (value, after) = match value.chars().next()? {
                quote @ ('"' | '\'') => value[1..].split_once(quote)?,
                _ => {
                    let end = value.find(|letter: char| letter.is_ascii_whitespace() || letter == '>')?;
                    value.split_at(end)
                }
            };
            tag.attributes.push((name, plain(value)));
            rest = after;
        }
    }

    fn attribute(&self, name: &str) -> Option<String> {
        let found = self.attributes.iter().find(|(known, _)| known == name);
        found.map(|(_, value)| value.trim().to_owned())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case::quoted("<a href=\"/a b\">x</a>", &["/a b"])]
    #[case::bare("<A HREF=/a>x</A>", &["/a"])]
    #[case::others_first("<a class='x y' data-x href = '/a' >x</a>", &["/a"])]
    #[case::references("<a href='/a?x=1&amp;y=2'>x</a>", &["/a?x=1&y=2"])]
    #[case::commented("<!-- <a href='/a'> --><a href='/b'>", &["/b"])]
    #[case::written_by_a_script("<script src=/s.js>x('<a href=\"/a\">')</script><a href=/b>", &["/s.js", "/b"])]
    #[case::unfinished("<a href='/a", &[])]
    #[case::no_tag("1 < 2 <a href=/a> 3 > 2", &["/a"])]
    #[case::void("<link rel=stylesheet href=/s.css/><img src=/p.jpg />", &["/s.css/", "/p.jpg"])]
    fn links_are_those_that_a_browser_sees(#[case] text: &str, #[case] targets: &[&str]) {
        let found: Vec<String> = read(text).links.into_iter().map(|link| link.target).collect();
        assert_eq!(found, targets);
    }

    proptest! {
        /// Whatever a file holds, it is read to its end.
        #[test]
        fn anything_is_read(text in "(<|>|a|/|=|'|\"| |!|-|script|href|é|\n){0,60}") {
            read(&text);
        }
    }
}
