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
    /// One text, or a list of them.
    TextOrTexts,
    /// `true` or `false`, or a section of its own.
    FlagOrSection,
    /// A list of texts, or a section of its own.
    TextsOrSection,
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
            Kind::TextOrTexts => "a text in quotation marks, or a list of texts",
            Kind::FlagOrSection => "true or false, or a section",
            Kind::TextsOrSection => "a list of texts, or a section",
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
    "*+xml",
    "*+json",
    "application/javascript",
    "application/json",
    "application/sql",
    "application/toml",
    "application/vnd.ms-fontobject",
    "application/wasm",
    "application/x-ndjson",
    "application/xml",
    "application/yaml",
    "font/collection",
    "font/otf",
    "font/ttf",
    "image/bmp",
    "image/x-icon",
    "model/mtl",
    "model/obj",
];

/// Every setting there is.
pub const SETTINGS: &[Setting] = &[
    setting("", "service", Kind::Section, "[service]", "the service as a whole"),
    setting("", "listener", Kind::Sections, "[[listener]]", "an address on which sites answer"),
    setting("", "certificate", Kind::Sections, "[[certificate]]", "a certificate for some hosts"),
    setting("", "authority", Kind::Section, "[authority]", "whom certificates are obtained from (RFC 8555)"),
    setting("", "realm", Kind::Sections, "[[realm]]", "users who may go where a login is asked for"),
    setting("", "layout", Kind::Sections, "[[layout]]", "how lines of some log are written, by a name"),
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
        "addresses of proxies in front, which are believed when they say for whom they ask",
    ),
    setting(
        "service",
        "forwarded_by",
        Kind::Text,
        "forwarded_by = \"Forwarded\"",
        "the one field they set: Forwarded (RFC 7239), or X-Forwarded-For with X-Forwarded-Proto; the other is ignored",
    ),
    setting(
        "service",
        "console_in_the_open",
        Kind::Flag,
        "console_in_the_open = true",
        "whether the console may be reached from other machines without HTTPS: its sessions are readable on the way",
    ),
    setting(
        "service",
        "console_hosts",
        Kind::Texts,
        "console_hosts = [\"console.lindry.example\"]",
        "names by which the console is reached, beside addresses and localhost: other pages cannot lead a browser to it by a name of theirs",
    ),
    setting(
        "service",
        "countries",
        Kind::Text,
        "countries = \"countries.mmdb\"",
        "the file that knows countries of addresses",
    ),
    setting(
        "service",
        "include",
        Kind::Texts,
        "include = [\"sites.d/*.toml\"]",
        "further files with sites, realms, certificates and listeners",
    ),
    setting(
        "service",
        "user",
        Kind::Text,
        "user = \"exedra\"",
        "whom the service becomes once it has its sockets, when root started it",
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
    setting(
        "listener",
        "https",
        Kind::Flag,
        "https = true",
        "whether by HTTPS; certificates are found per host",
    ),
    setting(
        "listener",
        "public_port",
        Kind::Number,
        "public_port = 443",
        "what redirects name, when something in front maps it",
    ),
    setting(
        "listener",
        "announced",
        Kind::Flag,
        "announced = true",
        "whether connections begin with whom they come from (PROXY protocol), said by `forwarders`",
    ),
    required(setting(
        "certificate",
        "hosts",
        Kind::Texts,
        "hosts = [\"harbour.lindry.example\"]",
        "host names that it is for",
    )),
    setting("certificate", "chain", Kind::Text, "chain = \"certs/harbour.pem\"", "the certificates, in PEM"),
    setting("certificate", "key", Kind::Text, "key = \"certs/harbour.key\"", "the key of the first, in PEM"),
    setting(
        "certificate",
        "obtain",
        Kind::Text,
        "obtain = \"authority\"",
        "have it obtained from the [authority], and renewed",
    ),
    setting(
        "certificate",
        "command",
        Kind::Texts,
        "command = [\"/usr/local/bin/renew\", \"harbour\"]",
        "run at the start and once a day; it brings `chain` and `key` up to date",
    ),
    required(setting(
        "authority",
        "directory",
        Kind::Text,
        "directory = \"https://authority.example/directory\"",
        "address of its directory",
    )),
    setting(
        "authority",
        "contact",
        Kind::Text,
        "contact = \"office@lindry.example\"",
        "whom it may write to",
    ),
    setting(
        "authority",
        "trusted",
        Kind::Text,
        "trusted = \"certs/authority.pem\"",
        "who vouches for the authority itself, where the system does not know them",
    ),
    required(setting("realm", "name", Kind::Text, "name = \"staff\"", "what rules call it")),
    required(setting(
        "realm",
        "users",
        Kind::Text,
        "users = \"secrets/staff.toml\"",
        "its users: lines as `exedra password` prints them",
    )),
    setting("realm", "title", Kind::Text, "title = \"Harbour office\"", "what browsers say when they ask"),
    setting(
        "realm",
        "without_https",
        Kind::Flag,
        "without_https = true",
        "whether passwords may come in without HTTPS, for everybody on the way to read",
    ),
    required(setting("layout", "name", Kind::Text, "name = \"balancer\"", "what it is called")),
    required(setting(
        "layout",
        "template",
        Kind::Text,
        "template = '{time:rfc3339} {client} \"{method} {target} {protocol}\" {status} {bytes}'",
        "a line with a {field} in each place; parts in (( )) may be missing",
    )),
    setting("defaults", "compress", Kind::Section, "[defaults.compress]", "how answers are compressed"),
    setting("defaults", "https", Kind::Text, "https = \"required\"", "as in `site`"),
    setting("defaults", "https_only", Kind::Text, "https_only = \"1 year\"", "as in `site`"),
    setting("defaults", "index", Kind::Texts, "index = [\"index.html\"]", "as in `site`"),
    setting("defaults", "listing", Kind::Flag, "listing = true", "as in `site`"),
    setting("defaults", "folder_settings", Kind::Flag, "folder_settings = false", "as in `site`"),
    setting("defaults", "folder_host_headers", Kind::Flag, "folder_host_headers = true", "as in `site`"),
    setting("defaults", "error_pages", Kind::Section, "[defaults.error_pages]", "as in `site`"),
    setting("defaults", "log", Kind::Section, "[defaults.log]", "as in `site`"),
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
    setting(
        "site",
        "https",
        Kind::Text,
        "https = \"required\"",
        "offered, or required: who asks without is sent there; offered where not set",
    ),
    setting(
        "site",
        "https_only",
        Kind::Text,
        "https_only = \"1 year\"",
        "how long browsers are told to come by HTTPS only (RFC 6797); they will not be talked out of it",
    ),
    setting(
        "site",
        "folder_settings",
        Kind::Flag,
        "folder_settings = false",
        "whether folders may have a .exedra.toml; they may where not set",
    ),
    setting(
        "site",
        "folder_host_headers",
        Kind::Flag,
        "folder_host_headers = true",
        "whether those may set fields for the whole host, such as Set-Cookie; they may not where not set",
    ),
    setting(
        "site",
        "rules",
        Kind::Sections,
        "[[site.rules]]",
        "conditions on a request, and what then happens",
    ),
    setting(
        "site",
        "redirects",
        Kind::Text,
        "redirects = \"moved.csv\"",
        "many redirects, after all rules: lines of old path, new path, status",
    ),
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
        "full, combined, combined with host, common, extended, json, a [[layout]], or a template of one's own",
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
    setting("rules", "name", Kind::Text, "name = \"notices moved\"", "what logs and the console call it"),
    setting(
        "rules",
        "path",
        Kind::TextOrSection,
        "path = \"/mariners/{year}/{rest*}\"",
        "{name} is a segment, {name*} the rest; or { regex = \"…\" }",
    ),
    setting(
        "rules",
        "when",
        Kind::Section,
        "when = { scheme = \"http\" }",
        "facts that must be so, as `exedra facts` lists them; ! negates",
    ),
    setting(
        "rules",
        "redirect",
        Kind::Text,
        "redirect = \"/notices/{year}/{rest}\"",
        "sends the visitor there",
    ),
    setting(
        "rules",
        "status",
        Kind::Number,
        "status = 308",
        "how: 301, 302, 303, 307, 308; 307 where not set",
    ),
    setting(
        "rules",
        "query",
        Kind::Text,
        "query = \"drop\"",
        "leaves the query behind; it is kept where not set",
    ),
    setting(
        "rules",
        "serve",
        Kind::Text,
        "serve = \"/app.html\"",
        "serves another path of the site, unseen by the visitor",
    ),
    setting("rules", "refuse", Kind::Number, "refuse = 403", "answers with this status"),
    setting("rules", "gone", Kind::Flag, "gone = true", "answers that it is gone for good (410)"),
    setting("rules", "login", Kind::Text, "login = \"staff\"", "lets only users of this [[realm]] go on"),
    setting(
        "rules",
        "headers",
        Kind::Section,
        "headers = { X-Content-Type-Options = \"nosniff\" }",
        "fields of the answer; false takes one away",
    ),
    setting(
        "rules",
        "cache",
        Kind::Text,
        "cache = \"1 year\"",
        "how long the answer may be kept; or \"never\", or \"ask\" each time",
    ),
    setting(
        "rules",
        "compress",
        Kind::FlagOrSection,
        "compress = false",
        "as in `compress`, without `effort`; or not at all",
    ),
    setting(
        "rules",
        "listing",
        Kind::Flag,
        "listing = true",
        "whether folders without an index file are listed",
    ),
    setting(
        "rules",
        "limit",
        Kind::Section,
        "limit = { requests = \"5 a second\", at_once = 20 }",
        "how much one client may take",
    ),
    setting("rules", "log", Kind::Flag, "log = false", "whether such requests are logged"),
    setting(
        "rules",
        "cors",
        Kind::TextsOrSection,
        "cors = [\"https://partner.example\"]",
        "origins whose pages may read the answer; or a section",
    ),
    setting("limit", "requests", Kind::Text, "requests = \"5 a second\"", "how many, in the long run"),
    setting(
        "limit",
        "at_once",
        Kind::Number,
        "at_once = 20",
        "how many may come at once before that counts; 10 where not set",
    ),
    setting("limit", "speed", Kind::Text, "speed = \"1 MB a second\"", "how fast each answer is sent"),
    setting("limit", "connections", Kind::Number, "connections = 8", "how many answers may be under way"),
    setting(
        "cors",
        "origins",
        Kind::Texts,
        "origins = [\"https://*.partner.example\"]",
        "whose pages may read; [\"*\"] is anybody's",
    ),
    setting(
        "cors",
        "fields",
        Kind::Texts,
        "fields = [\"X-Token\"]",
        "fields of a request that they may send",
    ),
    setting("cors", "exposed", Kind::Texts, "exposed = [\"ETag\"]", "fields of an answer that they may read"),
    setting(
        "cors",
        "with_credentials",
        Kind::Flag,
        "with_credentials = true",
        "whether cookies and passwords go along",
    ),
    setting("cors", "keep", Kind::Text, "keep = \"1 day\"", "how long they may remember this"),
    setting(
        ".exedra.toml",
        "listing",
        Kind::Flag,
        "listing = true",
        "as in a rule, for this folder and all below",
    ),
    setting(
        ".exedra.toml",
        "index",
        Kind::Texts,
        "index = [\"index.html\"]",
        "files that stand for their folder",
    ),
    setting(
        ".exedra.toml",
        "error_pages",
        Kind::Section,
        "[error_pages]",
        "own pages; paths begin at this folder",
    ),
    setting(".exedra.toml", "compress", Kind::FlagOrSection, "compress = false", "as in a rule"),
    setting(".exedra.toml", "cache", Kind::Text, "cache = \"1 hour\"", "as in a rule"),
    setting(".exedra.toml", "headers", Kind::Section, "[headers]", "as in a rule"),
    setting(".exedra.toml", "rules", Kind::Sections, "[[rules]]", "rules; their paths begin at this folder"),
    setting(".exedra.toml", "login", Kind::Text, "login = \"staff\"", "as in a rule"),
    setting(".exedra.toml", "refuse", Kind::Number, "refuse = 403", "as in a rule"),
];

/// The settings of one section.
pub fn of_section(section: &str) -> impl Iterator<Item = &'static Setting> + '_ {
    SETTINGS.iter().filter(move |setting| setting.section == section)
}
