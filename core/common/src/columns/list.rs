//! The list of columns. Whatever is said of a column anywhere is made from what stands here.
//!
//! Batches, records, the fields of layouts, the names in JSON logs and in the W3C extended format, filters with their
//! operators and errors, rows of the API, `exedra columns` and the guide's table follow from it. To add a column, declare it
//! here; if the service is to write it too, say its value where a request is written down.

use super::{Column, Compared, Declaration, Kind, Unit, derived, number, text};

columns! {
    /// When the request came in.
    Time = Declaration {
        kind: Kind::Time,
        unit: Unit::Milliseconds,
        nullable: false,
        json: &[(Unit::None, &[
            "time", "timestamp", "datetime", "at", "ts", "starttime", "start", "started", "timelocal", "localtime", "timeiso8601", "eventtime", "logtime",
            "epoch", "unixtime", "timereceived", "receivedat",
        ])],
        // A time of day: the draft's `time` has no day.
        w3c: &["time"],
        ..text("time")
    };
    /// The site it went to.
    Text Site = Declaration { of_source: true, ..text("site") };
    /// The machine that wrote it down.
    Text Server = Declaration { of_source: true, ..text("server") };
    /// The log it was read from.
    Text Source = Declaration { of_source: true, ..text("source") };
    /// Address of the client.
    Text Client = Declaration {
        json: &[(Unit::None, &[
            "client", "clientip", "clientaddr", "clientaddress", "clienthost", "remoteaddr", "remoteip", "remoteaddress", "remotehost",
            "remote", "sourceip", "sourceaddress", "srcip", "peer", "ip", "address", "realip", "xrealip",
        ])],
        w3c: &["c-ip", "c-dns"],
        compared: Compared::Address,
        ..text("client")
    };
    /// Name of whoever signed in.
    Text User = Declaration {
        json: &[(Unit::None, &["user", "username", "remoteuser", "clientuser", "authuser"])],
        ..text("user")
    };
    /// Method of the request.
    Text Method = Declaration {
        json: &[(Unit::None, &["method", "requestmethod", "httpmethod", "verb"])],
        w3c: &["cs-method"],
        ..text("method")
    };
    /// Whether it came by http or https.
    Text Scheme = Declaration {
        json: &[(Unit::None, &["scheme", "requestscheme"])],
        compared: Compared::InAnyCase,
        values: &["http", "https"],
        ..text("scheme")
    };
    /// Host that it asked for.
    Text Host = Declaration {
        json: &[(Unit::None, &["host", "httphost", "servername", "requesthost", "virtualhost", "vhost", "urldomain", "authority"])],
        compared: Compared::InAnyCase,
        ..text("host")
    };
    /// Path without its query, as it came.
    Text Path = Declaration {
        json: &[(Unit::None, &["path", "pathinfo", "requestpath", "uripath", "urlpath"])],
        w3c: &["cs-uri-stem"],
        ..text("path")
    };
    /// Query without its question mark, as it came.
    Text Query = Declaration {
        json: &[(Unit::None, &["query", "querystring", "urlquery"])],
        w3c: &["cs-uri-query"],
        ..text("query")
    };
    /// Protocol and version.
    Text Protocol = Declaration {
        json: &[(Unit::None, &["protocol", "proto", "serverprotocol", "httpversion"])],
        compared: Compared::InAnyCase,
        ..text("protocol")
    };
    /// Status of the answer.
    Number Status = Declaration {
        json: &[(Unit::None, &["status", "statuscode", "httpstatus", "responsestatus", "responsecode", "responsestatuscode", "code"])],
        w3c: &["sc-status"],
        range: (100, 999),
        ..number("status", Kind::Integer)
    };
    /// Bytes of the body that were sent.
    Number Bytes = Declaration {
        unit: Unit::Bytes,
        json: &[(Unit::Bytes, &[
            "bytes", "bytessent", "bytesout", "sentbytes", "bodybytes", "bodybytessent", "bodysize", "bodylength", "size",
            "responsesize", "responsebytes", "responselength", "responsebodybytes", "contentlength", "length",
        ])],
        w3c: &["bytes"],
        ..number("bytes", Kind::Size)
    };
    /// Bytes of the body before compression.
    Number FullBytes = Declaration {
        unit: Unit::Bytes,
        json: &[(Unit::Bytes, &["fullbytes"])],
        ..number("full_bytes", Kind::Size)
    };
    /// How long the answer took, from the request's last octet to the answer's.
    Number Duration = Declaration {
        stored: "duration_us",
        unit: Unit::Microseconds,
        json: &[
            (Unit::Nanoseconds, &["durationns", "durationnanos", "latencyns", "elapsedns", "eventduration", "nanoseconds"]),
            (Unit::Microseconds, &["durationus", "latencyus", "elapsedus", "responsetimeus", "timetakenus", "microseconds"]),
            (Unit::Milliseconds, &[
                "durationms", "durationmillis", "latencyms", "elapsedms", "responsetimems", "requesttimems", "timetakenms",
                "milliseconds", "totalms", "totaltimems", "timems", "tookms",
            ]),
            (Unit::Seconds, &["durations", "durationsec", "durationseconds", "latencyseconds", "elapsedseconds", "seconds"]),
            // What these count is seen from how large they are.
            (Unit::None, &[
                "duration", "latency", "responsetime", "responselatency", "requestlatency", "requestduration", "elapsed", "elapsedtime", "timetaken", "totaltime",
                "processingtime", "dur", "took", "rt",
            ]),
        ],
        w3c: &["time-taken"],
        ..number("duration", Kind::Duration)
    };
    /// The page that linked here.
    Text Referrer = Declaration {
        json: &[(Unit::None, &["referrer", "referer", "httpreferer", "httpreferrer", "requestreferrer"])],
        ..text("referrer")
    };
    /// What the client calls itself (User-Agent).
    Text Agent = Declaration {
        json: &[(Unit::None, &["agent", "useragent", "httpuseragent", "useragentoriginal", "ua"])],
        compared: Compared::InAnyCase,
        ..text("agent")
    };
    /// Content coding of the answer.
    Text Encoding = Declaration {
        json: &[(Unit::None, &["encoding", "contentencoding"])],
        compared: Compared::InAnyCase,
        ..text("encoding")
    };
    /// The rule that answered, by the place where it is written.
    Text Rule = Declaration {
        json: &[(Unit::None, &["rule"])],
        ..text("rule")
    };
    /// Country of the client (ISO 3166-1), where a file that knows countries is configured.
    Derived Country = Declaration { compared: Compared::InAnyCase, ..derived("country", TextColumn::Client) };
    /// Browser of a person.
    Derived Browser = Declaration { compared: Compared::InAnyCase, ..derived("browser", TextColumn::Agent) };
    /// Operating system of a person's device.
    Derived System = Declaration { compared: Compared::InAnyCase, ..derived("system", TextColumn::Agent) };
    /// Kind of a person's device.
    Derived Device = Declaration {
        compared: Compared::InAnyCase,
        values: &["computer", "phone", "tablet", "tv", "console"],
        ..derived("device", TextColumn::Agent)
    };
    /// Name of a bot or crawler; nothing for people.
    Derived Crawler = Declaration { compared: Compared::InAnyCase, ..derived("crawler", TextColumn::Agent) };
    /// What was asked for: something people read, something a page loads, something people keep.
    Derived Kind = Declaration {
        compared: Compared::InAnyCase,
        values: &["page", "asset", "download", "feed", "other"],
        ..derived("kind", TextColumn::Path)
    };
    /// What stands after the last dot of the path.
    Derived Extension = Declaration { compared: Compared::InAnyCase, ..derived("extension", TextColumn::Path) };
    /// Host that the referrer names.
    Derived ReferrerHost = Declaration { compared: Compared::InAnyCase, ..derived("referrer_host", TextColumn::Referrer) };
    /// What somebody searched for before they came.
    Derived SearchPhrase = Declaration { compared: Compared::InAnyCase, ..derived("search_phrase", TextColumn::Referrer) };
}

/// Every column with what is declared of it.
pub(super) const fn declared() -> &'static [(Column, Declaration)] {
    DECLARED
}

/// What is declared of a column.
#[inline]
pub(super) fn declaration(column: Column) -> &'static Declaration {
    let place = match column {
        Column::Time => PLACES.time,
        Column::Text(text) => PLACES.texts[text.index()],
        Column::Number(number) => PLACES.numbers[number.index()],
        Column::Derived(derived) => PLACES.derived[derived.index()],
    };
    &DECLARED[place].1
}

/// Where each column stands in the list: lines of logs are read by their declarations, and there are many.
struct Places {
    time: usize,
    texts: [usize; TextColumn::COUNT],
    numbers: [usize; NumberColumn::COUNT],
    derived: [usize; DerivedColumn::COUNT],
}

static PLACES: Places = {
    let mut places = Places {
        time: 0,
        texts: [0; TextColumn::COUNT],
        numbers: [0; NumberColumn::COUNT],
        derived: [0; DerivedColumn::COUNT],
    };
    let mut at = 0;
    while at < DECLARED.len() {
        match DECLARED[at].0 {
            Column::Time => places.time = at,
            Column::Text(text) => places.texts[text.index()] = at,
            Column::Number(number) => places.numbers[number.index()] = at,
            Column::Derived(derived) => places.derived[derived.index()] = at,
        }
        at += 1;
    }
    places
};
