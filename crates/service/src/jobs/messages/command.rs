//! By a program of the administrator's own, which is run for each message.

use super::{Content, NotDelivered, webhook};
use exedra_answering::config::Located;
use exedra_store::watching::messages::Message;
use std::path::Path;
use std::process::Stdio;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::process::Command;

/// How much of what it complains is read, in octets.
const MOST_WORDS: u64 = 4096;

/// Runs it in a folder: the message is JSON on its standard input, as a webhook is sent it, and its subject stands in its environment. Its success is
/// the receipt.
///
/// # Errors
/// [`NotDelivered`], with what it wrote to its standard error.
pub async fn run(
    words: &[Located<String>],
    folder: &Path,
    message: &Message,
    content: &Content,
) -> Result<(), NotDelivered> {
    let Some((program, arguments)) = words.split_first() else {
        return Err(NotDelivered::Ever("no program is named".to_owned()));
    };
    let program = &program.value;
    let mut child = Command::new(program)
        .args(arguments.iter().map(|word| &word.value))
        .env("EXEDRA_MESSAGE", &message.id)
        .env("EXEDRA_KIND", &message.kind)
        .env("EXEDRA_SUBJECT", &message.subject)
        .current_dir(folder)
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .stderr(Stdio::piped())
        // Whoever waits for it may be tired of that.
        .kill_on_drop(true)
        .spawn()
        .map_err(|error| NotDelivered::Yet(format!("{program} cannot be run: {error}")))?;
    let (input, complaints) = (child.stdin.take(), child.stderr.take());
    let told = webhook::body(message, content).to_string();
    let write = async {
        if let Some(mut input) = input {
            // One that does not care to read ends as it likes.
            let _ = input.write_all(told.as_bytes()).await;
        }
    };
    let read = async {
        let mut said = Vec::new();
        if let Some(complaints) = complaints {
            let mut rest = complaints.take(MOST_WORDS);
            let _ = rest.read_to_end(&mut said).await;
            // The rest is not kept, and it may not wait for anybody to take it.
            let _ = tokio::io::copy(&mut rest.into_inner(), &mut tokio::io::sink()).await;
        }
        said
    };
    let ((), said, ended) = tokio::join!(write, read, child.wait());
    let ended =
        ended.map_err(|error| NotDelivered::Yet(format!("{program} could not be waited for: {error}")))?;
    if ended.success() {
        return Ok(());
    }
    let said = String::from_utf8_lossy(&said);
    let said: String =
        said.trim().chars().map(|letter| if letter.is_control() { ' ' } else { letter }).collect();
    Err(NotDelivered::Yet(format!(
        "{program} ended with {ended}{}{said}",
        if said.is_empty() { "" } else { ": " }
    )))
}
