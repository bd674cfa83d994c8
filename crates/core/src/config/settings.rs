//! The one list of settings. What a section may hold, of which kind, and what it is for.

/// What a setting holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// One text.
    Text,
    /// A list of texts.
    Texts,
    /// `true` or `false`.
    Flag,
    /// A whole number, not below zero.
    Number,
    /// One text, or a section of its own.
    TextOrSection,
    /// A section of its own.
    Section,
    /// Any number of sections of its own.
    Sections,
}

impl Kind {
    /// The kind as a person would say it.
    pub fn in_words(self) -> &'static str {
        match self {
            Kind::Text => "a text in quotation marks",
            Kind::Texts => "a list of texts",
            Kind::Flag => "true or false",
            Kind::Number => "a whole number",
            Kind::TextOrSection => "a text in quotation marks, or a section",
            Kind::Section => "a section",
            Kind::Sections => "sections in double brackets",
        }
    }
}

/// One setting.
#[derive(Debug, Clone, Copy)]
pub struct Setting {
    /// The section it belongs to; empty for the top of the file.
    pub section: &'static str,
    /// Its key.
    pub key: &'static str,
    /// What it holds.
    pub kind: Kind,
    /// Whether a section without it is a mistake.
    pub required: bool,
    /// How it is written.
    pub example: &'static str,
    /// What it is for.
    pub about: &'static str,
}

const fn setting(
    section: &'static str,
    key: &'static str,
    kind: Kind,
    example: &'static str,
    about: &'static str,
) -> Setting {
    Setting { section, key, kind, required: false, example, about }
}

const fn required(mut setting: Setting) -> Setting {
    setting.required = true;
    setting
}

/// Types that are compressed where nothing else is said.
pub const COMPRESSED_TYPES: &[&str] = &[
    "text/*",
    "application/javascript",
    "application/json",
    "application/xml",
    "application/manifest+json",
    "image/svg+xml",
    "font/ttf",
];

/// Every setting there is.
pub const SETTINGS: &[Setting] = &[
    setting("", "service", Kind::Section, "[service]", "the service as a whole"),
    setting("", "listener", Kind::Sections, "[[listener]]", "an address on which sites answer"),
    setting("", "limits", Kind::Section, "[limits]", "how much a client may take, and how long"),
    setting("", "errors", Kind::Section, "[errors]", "the log of errors"),
    setting("", "defaults", Kind::Section, "[defaults]", "what every site begins with"),
    setting("", "site", Kind::Sections, "[[site]]", "a name, its hosts, a folder"),
    setting(
        "service",
        "console",
        Kind::Text,
        "console = \"127.0.0.1:7300\"",
        "where the console and its API answer",
    ),
    setting("service", "state", Kind::Text, "state = \"state\"", "folder of databases and tokens"),
    setting(
        "service",
        "logs",
        Kind::Text,
        "logs = \"logs\"",
        "folder of access logs; `logs` inside `state` where not set",
    ),
    setting(
        "service",
        "records",
        Kind::Flag,
        "records = true",
        "whether the service reads its own logs into records",
    ),
    setting(
        "service",
        "time_zone",
        Kind::Text,
        "time_zone = \"Atlantic/Faroe\"",
        "days and hours in reports; UTC where not set",
    ),
    setting(
        "service",
        "forwarders",
        Kind::Texts,
        "forwarders = [\"10.0.0.0/8\"]",
        "whose Forwarded header is believed (RFC 7239)",
    ),
    setting(
        "limits",
        "head_time",
        Kind::Text,
        "head_time = \"20 seconds\"",
        "how long the head of a request may take to come in; 20 seconds where not set",
    ),
    setting(
        "limits",
        "idle_time",
        Kind::Text,
        "idle_time = \"60 seconds\"",
        "how long a connection may wait for its next request; 60 seconds where not set",
    ),
    setting(
        "limits",
        "body_time",
        Kind::Text,
        "body_time = \"60 seconds\"",
        "how long a client may take none of an answer; 60 seconds where not set",
    ),
    setting(
        "limits",
        "head_size",
        Kind::Text,
        "head_size = \"64 KiB\"",
        "the largest head of a request, from 8 KiB; 64 KiB where not set",
    ),
    setting(
        "limits",
        "connections",
        Kind::Number,
        "connections = 20000",
        "how many may be open; past it the one idle longest is closed; 20,000 where not set",
    ),
    setting(
        "limits",
        "requests",
        Kind::Number,
        "requests = 10000",
        "how many one connection may bring before it is closed; 10,000 where not set",
    ),
    setting("errors", "rotate", Kind::Text, "rotate = \"20 MB\"", "as in `log`; 20 MB where not set"),
    setting("errors", "keep", Kind::Text, "keep = \"90 days\"", "as in `log`; 90 days where not set"),
    required(setting("listener", "address", Kind::Text, "address = \"127.0.0.1:7380\"", "address and port")),
    setting("defaults", "compress", Kind::Section, "[defaults.compress]", "how answers are compressed"),
    required(setting(
        "site",
        "name",
        Kind::Text,
        "name = \"harbour\"",
        "its name: letters, digits and dashes",
    )),
    required(setting(
        "site",
        "hosts",
        Kind::Texts,
        "hosts = [\"harbour.lindry.example\"]",
        "host names it answers to",
    )),
    setting(
        "site",
        "main_host",
        Kind::Text,
        "main_host = \"harbour.lindry.example\"",
        "the other hosts are sent here",
    ),
    required(setting("site", "folder", Kind::Text, "folder = \"sites/harbour\"", "its files")),
    setting("site", "index", Kind::Texts, "index = [\"index.html\"]", "files that stand for their folder"),
    setting(
        "site",
        "listing",
        Kind::Flag,
        "listing = true",
        "whether folders without an index file are listed",
    ),
    setting("site", "default", Kind::Flag, "default = true", "whether it answers for unknown hosts"),
    setting(
        "site",
        "error_pages",
        Kind::Section,
        "[site.error_pages]",
        "own pages: a status or a class, then a path",
    ),
    setting("site", "compress", Kind::Section, "[site.compress]", "how answers are compressed"),
    setting("site", "log", Kind::Section, "[site.log]", "its access log"),
    setting(
        "compress",
        "codecs",
        Kind::Texts,
        "codecs = [\"br\", \"zstd\", \"gzip\"]",
        "content codings, the preferred first; none: []",
    ),
    setting("compress", "types", Kind::Texts, "types = [\"text/*\"]", "media types that are compressed"),
    setting("compress", "at_least", Kind::Text, "at_least = \"256 bytes\"", "the smallest body worth it"),
    setting(
        "compress",
        "effort",
        Kind::TextOrSection,
        "effort = { br = 5, gzip = 6 }",
        "\"settled\": quick now, thorough from then on; or a number for some codecs",
    ),
    setting(
        "compress",
        "not_for",
        Kind::Texts,
        "not_for = [\"LindryKiosk/1.*\"]",
        "agents that get nothing compressed",
    ),
    setting(
        "log",
        "layout",
        Kind::Text,
        "layout = \"full\"",
        "full, combined, common, extended, json, or a template of one's own",
    ),
    setting("log", "write", Kind::Flag, "write = true", "whether the site's requests are logged at all"),
    setting(
        "log",
        "rotate",
        Kind::Text,
        "rotate = \"1 day\"",
        "when the next generation begins: days, a size as in \"50 MB\", or never; 1 day where not set",
    ),
    setting(
        "log",
        "keep",
        Kind::Text,
        "keep = \"90 days\"",
        "how long past generations are kept, or forever; 90 days where not set",
    ),
    setting(
        "log",
        "clients",
        Kind::Text,
        "clients = \"masked\"",
        "whole, or masked: addresses cut to their network before they are written",
    ),
];

/// The settings of one section.
pub fn of_section(section: &str) -> impl Iterator<Item = &'static Setting> + '_ {
    SETTINGS.iter().filter(move |setting| setting.section == section)
}
