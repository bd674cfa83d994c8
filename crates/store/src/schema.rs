//! The tables of both databases, for Diesel.

diesel::table! {
    /// How far each log has been read into the segments.
    sources (name) {
        /// File name of the log.
        name -> Text,
        /// Octets of it that are in the segments.
        octets -> BigInt,
        /// Lines that became requests.
        lines -> BigInt,
        /// Lines that did not.
        unread -> BigInt,
        /// How it begins.
        begins -> Text,
        /// Whether segments of it were damaged.
        incomplete -> Bool,
    }
}

diesel::table! {
    /// Requests that are kept together.
    segments (id) {
        /// Number.
        id -> Integer,
        /// Site.
        site -> Text,
        /// How many.
        requests -> Integer,
        /// First, in milliseconds since 1970 UTC.
        first_time -> BigInt,
        /// Last, in milliseconds since 1970 UTC.
        last_time -> BigInt,
        /// Whether another segment holds its requests now.
        retired -> Bool,
        /// Where they were read from, as JSON.
        origins -> Text,
        /// Names of its columns, between commas.
        column_names -> Text,
        /// Octets of the lines they were read from.
        octets -> BigInt,
    }
}

diesel::table! {
    /// Damaged files whose undamaged segments are in this one.
    salvaged (file) {
        /// Name of the file.
        file -> Text,
    }
}

diesel::table! {
    /// Surveys of closed days and months.
    kept_surveys (id) {
        /// Number.
        id -> Integer,
        /// Site.
        site -> Text,
        /// Whose days.
        zone -> Text,
        /// First instant, in milliseconds since 1970 UTC.
        first_time -> BigInt,
        /// The first one behind it.
        until_time -> BigInt,
        /// Version of what was counted.
        version -> Integer,
        /// Which of its parts are kept: a bit for each.
        parts -> Integer,
    }
}

diesel::table! {
    /// The parts of kept surveys.
    kept_parts (id) {
        /// Number.
        id -> Integer,
        /// Survey it belongs to.
        survey -> Integer,
        /// Which part it is.
        part -> Integer,
        /// It, packed.
        packed -> Binary,
    }
}

diesel::table! {
    /// Removals of requests that have passed the retention.
    removals (name) {
        /// Name.
        name -> Text,
    }
}

diesel::table! {
    /// The key of the hashes in kept surveys.
    survey_keys (id) {
        /// 1.
        id -> Integer,
        /// Sixteen octets.
        key -> Binary,
    }
}

diesel::table! {
    /// The columns of the segments.
    segment_columns (id) {
        /// Number.
        id -> Integer,
        /// Segment it belongs to.
        segment -> Integer,
        /// Column.
        name -> Text,
        /// Its values, packed.
        packed -> Binary,
    }
}

diesel::table! {
    /// What was given out to let somebody in.
    secrets (hash) {
        /// SHA-256 of it, in hexadecimal digits.
        hash -> Text,
        /// What it opens.
        purpose -> Text,
        /// When it was made, in seconds since 1970 UTC.
        made -> BigInt,
        /// When it ends, in seconds since 1970 UTC.
        expires -> BigInt,
        /// What it is known by.
        id -> Text,
        /// The account of a session.
        account -> Text,
        /// What a token is for.
        label -> Text,
        /// Who made a token.
        made_by -> Text,
        /// What a token may do.
        role -> Text,
        /// Sites that a token may see, as JSON.
        sites -> Text,
        /// When it was used last, in seconds since 1970 UTC.
        used -> BigInt,
    }
}

diesel::table! {
    /// Who may use the console by a name and a password.
    accounts (name) {
        /// Name.
        name -> Text,
        /// Password, as a PHC string.
        password -> Text,
        /// What it may do.
        role -> Text,
        /// Sites that it may see, as JSON.
        sites -> Text,
        /// When it was made, in seconds since 1970 UTC.
        made -> BigInt,
    }
}

diesel::table! {
    /// Statements that somebody kept under a name.
    queries (name) {
        /// Its name.
        name -> Text,
        /// The question that it answers.
        question -> Text,
        /// The statement.
        statement -> Text,
        /// Usual values of its `:name`s, as JSON.
        parameters -> Text,
        /// Who kept it.
        owner -> Text,
        /// When it was changed, in seconds since 1970 UTC.
        changed -> BigInt,
    }
}

diesel::table! {
    /// Logs of elsewhere that were brought in.
    imports (id) {
        /// What it is known by.
        id -> Text,
        /// Site.
        site -> Text,
        /// As it was named.
        name -> Text,
        /// By what it is known again, as JSON.
        known -> Text,
        /// When it was begun, in seconds since 1970 UTC.
        made -> BigInt,
        /// Who began it.
        made_by -> Text,
    }
}

diesel::table! {
    /// Days whose requests have passed the retention.
    tallies (id) {
        /// Number.
        id -> Integer,
        /// Site.
        site -> Text,
        /// Day, as in 2026-09-14.
        day -> Text,
        /// Whose day.
        zone -> Text,
        /// Figures, as JSON.
        figures -> Text,
        /// The removal of its requests.
        removal -> Text,
        /// Whether that was done.
        settled -> Bool,
    }
}

diesel::table! {
    /// Every change that was made by the API.
    changes (number) {
        /// Number.
        number -> Integer,
        /// When, in seconds since 1970 UTC.
        made -> BigInt,
        /// Who.
        who -> Text,
        /// From which address.
        client -> Text,
        /// By which call.
        what -> Text,
        /// How that was answered.
        status -> Integer,
        /// What was changed.
        detail -> Text,
    }
}

diesel::table! {
    /// Every configuration that was in force.
    revisions (number) {
        /// Number.
        number -> Integer,
        /// When it came into force, in seconds since 1970 UTC.
        made -> BigInt,
        /// Names and texts of its files, as JSON.
        files -> Text,
        /// Whether texts are named by their hash.
        by_hash -> Bool,
    }
}

diesel::table! {
    /// Texts of configurations' files.
    contents (hash) {
        /// SHA-256 of it, in hexadecimal digits.
        hash -> Text,
        /// The text.
        text -> Text,
    }
}

diesel::table! {
    /// What has been told of each alert. Minutes are counted since 1970 UTC.
    alerts (name) {
        /// Name.
        name -> Text,
        /// The first minute that was not looked at yet.
        until -> BigInt,
        /// The minute from which on it is raised, where that has been told.
        raised -> Nullable<BigInt>,
        /// Who has seen that.
        seen_by -> Text,
        /// Nobody is told before this: seconds since 1970 UTC.
        silent_until -> BigInt,
        /// Who said so.
        silent_by -> Text,
        /// Why.
        silent_reason -> Text,
    }
}

diesel::table! {
    /// When alerts were raised. Minutes are counted since 1970 UTC.
    alert_history (number) {
        /// Number.
        number -> Integer,
        /// The alert.
        alert -> Text,
        /// The minute with which it was raised.
        began -> BigInt,
        /// The minute with which it was over.
        ended -> Nullable<BigInt>,
        /// The figure that was furthest beyond the bound, in words.
        figure -> Text,
        /// The client that had it.
        client -> Nullable<Text>,
    }
}

diesel::table! {
    /// What recipients are told.
    messages (number) {
        /// Number.
        number -> Integer,
        /// By which receivers know repeats.
        id -> Text,
        /// Who is told.
        recipient -> Text,
        /// What it is about.
        kind -> Text,
        /// It, in a line.
        subject -> Text,
        /// It, as JSON.
        content -> Text,
        /// When it was made, in seconds since 1970 UTC.
        made -> BigInt,
        /// What became of it.
        state -> Text,
        /// How often it was tried to deliver it.
        attempts -> Integer,
        /// Not before this: seconds since 1970 UTC.
        next -> BigInt,
        /// Why the last attempt failed.
        failure -> Nullable<Text>,
        /// When it was delivered or given up, in seconds since 1970 UTC.
        ended -> Nullable<BigInt>,
    }
}

diesel::table! {
    /// Up to when each scheduled report has been made.
    report_schedules (report) {
        /// The report.
        report -> Text,
        /// In seconds since 1970 UTC.
        done -> BigInt,
    }
}

diesel::table! {
    /// Reports that were made by themselves, or were to be.
    report_runs (number) {
        /// Number.
        number -> Integer,
        /// The report.
        report -> Text,
        /// When it was to be made, in seconds since 1970 UTC.
        due -> BigInt,
        /// When it was.
        made -> BigInt,
        /// What it is about.
        days -> Text,
        /// It, in some lines.
        summary -> Text,
        /// Its file.
        file -> Nullable<Text>,
        /// How large that is.
        octets -> BigInt,
        /// Why it could not be made.
        failure -> Nullable<Text>,
        /// Who wanted it at once.
        made_by -> Text,
    }
}

diesel::table! {
    /// Findings that somebody has set aside.
    set_aside (id) {
        /// What the finding is known by.
        id -> Text,
        /// Its site.
        site -> Text,
        /// What was found, as it was then.
        title -> Text,
        /// Why it is set aside.
        reason -> Text,
        /// When, in seconds since 1970 UTC.
        made -> BigInt,
        /// By whom.
        made_by -> Text,
        /// When that ends, in seconds since 1970 UTC.
        until -> Nullable<BigInt>,
        /// It ends when the finding weighs twice as much.
        weight -> Nullable<Double>,
    }
}

diesel::table! {
    /// Changes that were published.
    publications (revision) {
        /// The revision that came into force.
        revision -> Integer,
        /// When, in milliseconds since 1970 UTC.
        made -> BigInt,
        /// By whom.
        made_by -> Text,
        /// Why.
        reason -> Text,
        /// The revision that was in force before.
        before -> Integer,
        /// What its rehearsal promised.
        rehearsal -> Nullable<Text>,
        /// How it went in its first minutes.
        state -> Text,
        /// The same in words.
        said -> Text,
    }
}
