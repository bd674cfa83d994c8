//! The data set in the layouts that web servers, balancers, application servers and collectors of logs write.
//!
//! None of them is any program's own: they are put together from the parts that occur. Each says what it leaves out, so that the
//! count it is compared with leaves it out as well.

use crate::requests::Request;

/// What a layout does not say.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Lacks {
    pub bytes: bool,
    pub duration: bool,
    pub agent: bool,
    pub referrer: bool,
}

const ALL: Lacks = Lacks { bytes: false, duration: false, agent: false, referrer: false };
const NO_DURATION: Lacks = Lacks { duration: true, ..ALL };
const NO_TEXTS: Lacks = Lacks { agent: true, referrer: true, ..ALL };
const NO_TEXTS_NO_DURATION: Lacks = Lacks { duration: true, ..NO_TEXTS };

/// A layout: its name, what its files begin with, how it writes a request, and what it lacks.
pub type Layout = (&'static str, &'static str, fn(&Request, usize) -> String, Lacks);

/// All of them.
pub const LAYOUTS: &[Layout] = &[
    ("common", "", |r, _| r.common(), NO_TEXTS_NO_DURATION),
    ("combined", "", |r, _| r.combined(), NO_DURATION),
    ("combined with host", "", |r, _| format!("{} {}", r.host, r.combined()), NO_DURATION),
    ("microseconds at the end", "", |r, _| format!("{} {}", r.combined(), r.duration), ALL),
    ("milliseconds at the end", "", |r, _| format!("{} {}", r.combined(), r.milliseconds()), ALL),
    ("seconds at the end", "", |r, _| format!("{} {}", r.combined(), r.seconds()), ALL),
    ("milliseconds with their unit", "", |r, _| format!("{} {}ms", r.combined(), r.milliseconds()), ALL),
    (
        "forwarded addresses and an identifier",
        "",
        |r, nth| format!("{} \"-\" \"{:08x}{:08x}\"", r.combined(), nth * 7919, r.time as u32),
        NO_DURATION,
    ),
    (
        "named times behind",
        "",
        |r, _| format!("{} took={} before=\"0.000\" behind=\"{}\"", r.combined(), r.seconds(), r.seconds()),
        ALL,
    ),
    (
        "port and process behind",
        "",
        |r, nth| format!("{} {} {}", r.combined(), 40_000 + nth * 7 % 20_000, 811 + nth % 3),
        NO_DURATION,
    ),
    (
        "host and encoding behind",
        "",
        |r, nth| format!("{} {} {}", r.combined(), r.host, ["gzip", "br", "-"][nth % 3]),
        NO_DURATION,
    ),
    ("size with headers behind", "", |r, _| format!("{} {}", r.combined(), r.bytes + 311), NO_DURATION),
    ("identifier before", "", |r, nth| format!("{:016x} {}", nth * 104_729, r.combined()), NO_DURATION),
    (
        "between size and referrer",
        "",
        |r, _| format!("{} {} \"{}\" \"{}\"", r.common(), r.seconds(), r.referrer, r.agent),
        ALL,
    ),
    (
        "syslog without year",
        "",
        |r, _| format!("{} pier web[812]: {}", r.at("%b %e %H:%M:%S"), r.combined()),
        NO_DURATION,
    ),
    (
        "syslog with priority",
        "",
        |r, _| format!("<134>{} pier web: {}", r.at("%b %e %H:%M:%S"), r.combined()),
        NO_DURATION,
    ),
    (
        "syslog of RFC 5424",
        "",
        |r, _| format!("<134>1 {} pier web 812 - - {}", r.at("%Y-%m-%dT%H:%M:%S%.3fZ"), r.combined()),
        NO_DURATION,
    ),
    (
        "container",
        "",
        |r, _| format!("{} stdout F {}", r.at("%Y-%m-%dT%H:%M:%S%.9fZ"), r.combined()),
        NO_DURATION,
    ),
    ("name of a service", "", |r, _| format!("web-1  | {}", r.combined()), NO_DURATION),
    (
        "logger",
        "",
        |r, nth| {
            format!("{} INFO [worker-{}] access: {}", r.at("%Y-%m-%d %H:%M:%S,%3f"), nth % 5, r.combined())
        },
        NO_DURATION,
    ),
    (
        "without identity and user",
        "",
        |r, _| {
            let time = r.at("%d/%b/%Y:%H:%M:%S +0000");
            format!("{} [{time}] \"{}\" {} {}", r.client, r.line(), r.status, r.bytes)
        },
        NO_TEXTS_NO_DURATION,
    ),
    (
        "milliseconds in the time",
        "",
        |r, _| {
            let time = r.at("%d/%b/%Y:%H:%M:%S%.3f +0000");
            format!("{} - {} [{time}] \"{}\" {} {}", r.client, r.user, r.line(), r.status, r.bytes)
        },
        NO_TEXTS_NO_DURATION,
    ),
    (
        "ISO 8601 in brackets",
        "",
        |r, _| {
            let time = r.at("%Y-%m-%dT%H:%M:%S+00:00");
            format!("{} - {} [{time}] \"{}\" {} {}", r.client, r.user, r.line(), r.status, r.bytes)
        },
        NO_TEXTS_NO_DURATION,
    ),
    (
        "brackets without a zone",
        "",
        |r, _| {
            let time = r.at("%d/%b/%Y:%H:%M:%S");
            format!("{} - {} [{time}] \"{}\" {} {}", r.client, r.user, r.line(), r.status, r.bytes)
        },
        NO_TEXTS_NO_DURATION,
    ),
    (
        "seconds since 1970",
        "",
        |r, _| format!("{} {} \"{}\" {} {}", r.time / 1000, r.client, r.line(), r.status, r.bytes),
        NO_TEXTS_NO_DURATION,
    ),
    (
        "milliseconds since 1970",
        "",
        |r, _| {
            format!("{} {} {} {} {} {}", r.time, r.client, r.method, r.target(), r.status, r.milliseconds())
        },
        Lacks { bytes: true, ..NO_TEXTS },
    ),
    (
        "seconds with a fraction",
        "",
        |r, _| {
            let time = format!("{}.{:03}", r.time / 1000, r.time % 1000);
            format!("{time} {} {} {} {} {}", r.milliseconds(), r.client, r.status, r.bytes, r.line())
        },
        Lacks { duration: true, ..NO_TEXTS },
    ),
    (
        "client with its port",
        "",
        |r, _| {
            let time = r.at("%d/%b/%Y:%H:%M:%S +0000");
            format!("{} - {} [{time}] \"{}\" {} {}", r.with_port(), r.user, r.line(), r.status, r.bytes)
        },
        NO_TEXTS_NO_DURATION,
    ),
    (
        "client in quotation marks",
        "",
        |r, _| {
            let time = r.at("%d/%b/%Y:%H:%M:%S +0000");
            format!("{} - {} [{time}] \"{}\" {} {}", r.quoted_client(), r.user, r.line(), r.status, r.bytes)
        },
        NO_TEXTS_NO_DURATION,
    ),
    (
        "list of addresses",
        "",
        |r, nth| match nth % 3 {
            0 => r.combined(),
            _ => r.combined().replacen(&r.client, &format!("{}, 10.0.0.{}", r.client, nth % 7), 1),
        },
        NO_DURATION,
    ),
    (
        "balancer before, client behind",
        "",
        |r, nth| {
            let line = r.combined().replacen(&r.client, &format!("10.0.0.{}", nth % 2 + 1), 1);
            format!("{line} \"{}\"", r.client)
        },
        NO_DURATION,
    ),
    (
        "tabs",
        "",
        |r, _| {
            [
                &*r.at("%Y-%m-%dT%H:%M:%SZ"),
                &r.client,
                r.method,
                &r.target(),
                &r.status.to_string(),
                &r.bytes.to_string(),
                &r.milliseconds().to_string(),
                r.referrer,
                r.agent,
            ]
            .join("\t")
        },
        ALL,
    ),
    (
        "commas and a heading",
        "time,client_ip,method,uri,status,bytes,duration_ms,referer,user_agent\n",
        |r, _| {
            let (time, agent) = (r.at("%Y-%m-%d %H:%M:%S"), format!("\"{}\"", r.agent));
            format!(
                "{time},{},{},{},{},{},{},{},{agent}",
                r.client,
                r.method,
                r.target(),
                r.status,
                r.bytes,
                r.milliseconds(),
                r.referrer
            )
        },
        ALL,
    ),
    (
        "all in quotation marks",
        "\"timestamp\",\"remote_addr\",\"request\",\"status\",\"body_bytes_sent\",\"http_user_agent\"\n",
        |r, _| {
            let time = r.at("%Y-%m-%dT%H:%M:%S%.3fZ");
            format!(
                "\"{time}\",\"{}\",\"{}\",\"{}\",\"{}\",\"{}\"",
                r.client,
                r.line(),
                r.status,
                r.bytes,
                r.agent
            )
        },
        Lacks { referrer: true, ..NO_DURATION },
    ),
    (
        "semicolons and a heading",
        "date;time;ip;host;method;path;status;size\n",
        |r, _| {
            let (date, time) = (r.at("%d.%m.%Y"), r.at("%H:%M:%S"));
            format!("{date};{time};{};{};{};{};{};{}", r.client, r.host, r.method, r.path, r.status, r.bytes)
        },
        NO_TEXTS_NO_DURATION,
    ),
    (
        "bars",
        "",
        |r, _| {
            let time = r.at("%Y/%m/%d %H:%M:%S");
            format!("{time}|{}|{}|{}|{}|{}", r.client, r.line(), r.status, r.bytes, r.seconds())
        },
        NO_TEXTS,
    ),
    (
        "key=value",
        "",
        |r, _| {
            let time = r.at("%Y-%m-%dT%H:%M:%S%.3fZ");
            format!(
                "ts={time} level=info client={} method={} path=\"{}\" status={} bytes={} duration={}ms ua=\"{}\"",
                r.client,
                r.method,
                r.target(),
                r.status,
                r.bytes,
                r.milliseconds(),
                r.agent
            )
        },
        Lacks { referrer: true, ..ALL },
    ),
    (
        "key=value behind a time",
        "",
        |r, _| {
            let time = r.at("%Y-%m-%d %H:%M:%S%.3f");
            format!(
                "{time} INFO request handled: method={} uri={} status={} remote_ip={} size={} elapsed={}",
                r.method,
                r.target(),
                r.status,
                r.client,
                r.bytes,
                r.seconds()
            )
        },
        NO_TEXTS,
    ),
    (
        "named by colons and tabs",
        "",
        |r, _| {
            let time = r.at("%d/%b/%Y:%H:%M:%S +0000");
            format!(
                "time:{time}\tclient:{}\trequest:{}\tstatus:{}\tsize:{}\tua:{}",
                r.client,
                r.line(),
                r.status,
                r.bytes,
                r.agent
            )
        },
        Lacks { referrer: true, ..NO_DURATION },
    ),
    (
        "JSON",
        "",
        |r, _| {
            format!(
                r#"{{"time":"{}","remote_addr":"{}","method":"{}","uri":"{}","status":{},"bytes_sent":{},"request_time":{},"referer":"{}","user_agent":"{}"}}"#,
                r.at("%Y-%m-%dT%H:%M:%S%.3fZ"),
                r.client,
                r.method,
                r.target(),
                r.status,
                r.bytes,
                r.seconds(),
                r.referrer,
                r.agent
            )
        },
        ALL,
    ),
    (
        "JSON with response times",
        "",
        |r, _| {
            format!(
                r#"{{"time":{},"request":{{"method":"{}","url":"{}","remoteAddress":"{}","bytes":77,"headers":{{"user-agent":"{}"}}}},"response":{{"statusCode":{},"bytes":{}}},"responseTime":{},"said":"done"}}"#,
                r.time,
                r.method,
                r.target(),
                r.client,
                r.agent,
                r.status,
                r.bytes,
                r.milliseconds()
            )
        },
        Lacks { referrer: true, ..ALL },
    ),
    (
        "JSON with nanoseconds",
        "",
        |r, _| {
            format!(
                r#"{{"@timestamp":"{}","event":{{"duration":{}}},"source":{{"ip":"{}"}},"http":{{"request":{{"method":"{}","bytes":99}},"response":{{"status_code":{},"body":{{"bytes":{}}}}}}},"url":{{"original":"{}"}},"user_agent":{{"original":"{}"}}}}"#,
                r.at("%Y-%m-%dT%H:%M:%S%.3fZ"),
                r.duration * 1_000,
                r.client,
                r.method,
                r.status,
                r.bytes,
                r.target(),
                r.agent
            )
        },
        Lacks { referrer: true, ..ALL },
    ),
    (
        "JSON with dotted keys",
        "",
        |r, _| {
            format!(
                r#"{{"timestamp":"{}","client.address":"{}","http.request.method":"{}","url.path":"{}","http.response.status_code":{},"http.request.bytes":50,"http.response.bytes":{},"event.duration":{}}}"#,
                r.at("%Y-%m-%dT%H:%M:%SZ"),
                r.client,
                r.method,
                r.path,
                r.status,
                r.bytes,
                r.duration * 1_000
            )
        },
        NO_TEXTS,
    ),
    (
        "JSON behind a syslog prefix",
        "",
        |r, _| {
            format!(
                r#"{} pier web[7]: {{"ts":{}.5,"ip":"{}","request":"{}","status":"{}","size":{}}}"#,
                r.at("%b %e %H:%M:%S"),
                r.time / 1000,
                r.client,
                r.line(),
                r.status,
                r.bytes
            )
        },
        NO_TEXTS_NO_DURATION,
    ),
    (
        "lines within JSON",
        "",
        |r, _| {
            let line = r.combined().replace('"', "\\\"");
            let time = r.at("%Y-%m-%dT%H:%M:%S%.9fZ");
            format!(r#"{{"log":"{line}\n","stream":"stdout","time":"{time}"}}"#)
        },
        NO_DURATION,
    ),
    (
        "lines of an unknown layout within JSON",
        "",
        |r, _| {
            let line = format!("{} {}", r.combined(), r.milliseconds()).replace('"', "\\\"");
            format!(r#"{{"stream":"stdout","message":"{line}"}}"#)
        },
        ALL,
    ),
    (
        "W3C with milliseconds",
        "#Version: 1.0\n#Fields: date time c-ip cs-method cs-uri-stem cs-uri-query sc-status bytes time-taken cs(User-Agent)\n",
        |r, _| {
            let query = r.query.as_deref().unwrap_or("-");
            let agent = r.agent.replace(' ', "+");
            let time = r.at("%Y-%m-%d %H:%M:%S");
            format!(
                "{time} {} {} {} {query} {} {} {} {agent}",
                r.client,
                r.method,
                r.path,
                r.status,
                r.bytes,
                r.milliseconds()
            )
        },
        Lacks { referrer: true, ..ALL },
    ),
    (
        "W3C with seconds",
        "#Fields: date time c-ip cs-method cs-uri sc-status bytes time-taken\n",
        |r, _| {
            let time = r.at("%Y-%m-%d %H:%M:%S");
            format!(
                "{time} {} {} {} {} {} {}",
                r.client,
                r.method,
                r.target(),
                r.status,
                r.bytes,
                r.seconds()
            )
        },
        NO_TEXTS,
    ),
    (
        "application server",
        "",
        |r, _| {
            let time = r.at("%Y-%m-%dT%H:%M:%S%.3fZ");
            format!(
                "[{time}] {} \"{}\" {} {} - {} ms",
                r.client,
                r.line(),
                r.status,
                r.bytes,
                r.milliseconds()
            )
        },
        NO_TEXTS,
    ),
    (
        "application with words",
        "",
        |r, nth| {
            let time = r.at("%Y-%m-%d %H:%M:%S%.3f");
            let rest = ["done", "done, from cache", "done after one more try"][nth % 3];
            format!(
                "{time} [http-{}] {} {} -> {} in {}ms for {} {rest}",
                nth % 4,
                r.method,
                r.target(),
                r.status,
                r.milliseconds(),
                r.client
            )
        },
        Lacks { bytes: true, ..NO_TEXTS },
    ),
    (
        "balancer",
        "",
        |r, nth| {
            let time = r.at("%Y-%m-%dT%H:%M:%S%.6fZ");
            let url = format!("https://{}:443{}", r.host, r.target());
            format!(
                "{time} quay-lb {} 10.0.3.{}:8080 {} {} {} \"{} {url} HTTP/1.1\" \"{}\" TLSv1.3",
                r.with_port(),
                nth % 4,
                r.seconds(),
                r.status,
                r.bytes,
                r.method,
                r.agent
            )
        },
        Lacks { referrer: true, duration: true, ..ALL },
    ),
    (
        "proxy",
        "",
        |r, nth| {
            let url = format!("http://{}{}", r.host, r.target());
            let time = format!("{}.{:03}", r.time / 1000, r.time % 1000);
            format!(
                "{time} {:>6} {} {}/{} {} {} {url} -",
                r.milliseconds(),
                r.client,
                ["KEPT", "ASKED"][nth % 2],
                r.status,
                r.bytes,
                r.method
            )
        },
        Lacks { duration: true, ..NO_TEXTS },
    ),
    (
        "month before day",
        "",
        |r, _| {
            let time = r.at("%m/%d/%Y %H:%M:%S");
            format!("{time} {} \"{}\" {} {}", r.client, r.line(), r.status, r.bytes)
        },
        NO_TEXTS_NO_DURATION,
    ),
    (
        "as mail writes it",
        "",
        |r, _| {
            let time = r.at("%a, %d %b %Y %H:%M:%S GMT");
            format!("{} | {time} | {} | {} | {}", r.client, r.line(), r.status, r.bytes)
        },
        NO_TEXTS_NO_DURATION,
    ),
    (
        "columns in line",
        "",
        |r, _| {
            let time = r.at("%Y-%m-%d %H:%M:%S");
            format!("{time}  {:<22} {:<5} {:>3} {:>7}  {}", r.client, r.method, r.status, r.bytes, r.target())
        },
        NO_TEXTS_NO_DURATION,
    ),
    ("byte-order mark", "\u{feff}", |r, _| r.combined(), NO_DURATION),
    ("line ends of another system", "", |r, _| format!("{}\r", r.combined()), NO_DURATION),
    ("named by a colon behind", "", |r, _| format!("{} request_time:{}", r.combined(), r.seconds()), ALL),
    ("milliseconds in words", "", |r, _| format!("{} \"{} ms\"", r.combined(), r.milliseconds()), ALL),
    (
        "parted by a mark of their own",
        "",
        |r, _| {
            let time = r.at("%Y-%m-%dT%H:%M:%SZ");
            format!(
                "{time}^{}^{}^{}^{}^{}^{}^{}^{}",
                r.client,
                r.method,
                r.target(),
                r.status,
                r.bytes,
                r.seconds(),
                r.referrer,
                r.agent
            )
        },
        ALL,
    ),
    (
        "JSON with names of its own",
        "",
        |r, nth| {
            format!(
                r#"{{"begun":"{}","visitor":{{"from":"{}","calls_itself":"{}","came_by":"{}"}},"wanted":"{}","outcome":{},"payload_size":{},"whole":"{}ms","queue":"0ms","worker":{}}}"#,
                r.at("%Y-%m-%d %H:%M:%S%.3f"),
                r.with_port(),
                r.agent,
                r.referrer,
                r.line(),
                r.status,
                r.bytes,
                r.milliseconds(),
                nth % 4
            )
        },
        ALL,
    ),
    (
        "key=value with names of its own",
        "",
        |r, nth| {
            format!(
                "at={} gate={} wants={} via={} outcome={} payload_bytes={} queue=1ms whole={}ms nr={nth}",
                r.at("%Y-%m-%dT%H:%M:%S%.3fZ"),
                r.client,
                r.target(),
                r.method,
                r.status,
                r.bytes,
                r.milliseconds()
            )
        },
        NO_TEXTS,
    ),
    ("single quotation marks", "", |r, _| r.combined().replace('"', "'"), NO_DURATION),
    (
        "names behind the request",
        "",
        |r, _| {
            format!("{} referer=\"{}\" agent=\"{}\" elapsed={}", r.common(), r.referrer, r.agent, r.seconds())
        },
        ALL,
    ),
    (
        "what was received before what was sent",
        "",
        |r, nth| {
            let (time, received) = (r.at("%Y-%m-%dT%H:%M:%S%.3fZ"), 300 + nth * 7919 % 613);
            format!(
                "[{time}] \"{}\" {} - {received} {} {} {} \"{}\" \"{}\" \"10.0.0.1:80\"",
                r.line(),
                r.status,
                r.bytes,
                r.milliseconds(),
                r.milliseconds().saturating_sub(1),
                r.client,
                r.agent
            )
        },
        Lacks { referrer: true, ..ALL },
    ),
    (
        "JSON that calls an address a request",
        "",
        |r, _| {
            format!(
                r#"{{"@timestamp":"{}","clientip":"{}","verb":"{}","request":"{}","response":"{}","bytes":"{}","timing":{{"queue_ms":0,"total_ms":{}}}}}"#,
                r.at("%Y-%m-%dT%H:%M:%S%.3fZ"),
                r.client,
                r.method,
                r.target(),
                r.status,
                r.bytes,
                r.milliseconds()
            )
        },
        NO_TEXTS,
    ),
    (
        "a size that is another each time",
        "",
        |r, nth| {
            let time = r.at("%d/%b/%Y:%H:%M:%S +0000");
            let (before, size) = (format!("{} - {} [{time}]", r.client, r.user), 200 + nth * 7919 % 59_800);
            format!(
                "{before} \"{}\" {} {size} \"{}\" \"{}\" {}",
                r.line(),
                r.status,
                r.referrer,
                r.agent,
                r.milliseconds()
            )
        },
        Lacks { bytes: true, ..ALL },
    ),
    (
        "parts of an answer with slashes between them",
        "",
        |r, nth| {
            let (time, port, whole) =
                (r.at("%Y-%m-%dT%H:%M:%S%.3fZ"), 40_000 + nth * 7 % 20_000, r.milliseconds());
            let (asked, answered) = (whole / 3, whole - whole / 3);
            format!(
                "{time} {}:{port} {asked}/0/{answered}/{whole} {} {} 3/2/{}/0 \"{}\"",
                r.client,
                r.status,
                r.bytes,
                nth % 2,
                r.line()
            )
        },
        NO_TEXTS,
    ),
    (
        "numbers below each other",
        "",
        |r, _| {
            let (time, spent) = (r.at("%Y-%m-%dT%H:%M:%SZ"), r.milliseconds());
            format!("{time} {spent:>8} {} {} {} {} {}", r.client, r.status, r.bytes, r.method, r.target())
        },
        NO_TEXTS,
    ),
    (
        "JSON with a word before known names",
        "",
        |r, _| {
            format!(
                r#"{{"PierTime":"{}","PierClient":"{}","PierMethod":"{}","PierPath":"{}","PierStatus":{},"PierBytes":{},"PierResponseTime":{}000}}"#,
                r.at("%Y-%m-%dT%H:%M:%S%.3fZ"),
                r.client,
                r.method,
                r.target(),
                r.status,
                r.bytes,
                r.milliseconds() * 1000
            )
        },
        NO_TEXTS,
    ),
];
