//! A command that failed.

/// A command that failed: the words for whoever called it. Without words, there is nobody to tell.
pub struct Failure(pub String);

impl<E: std::error::Error + 'static> From<E> for Failure {
    fn from(error: E) -> Self {
        let error: &(dyn std::error::Error + 'static) = &error;
        match error.downcast_ref::<std::io::Error>() {
            // Whoever read our output has seen enough.
            Some(error) if error.kind() == std::io::ErrorKind::BrokenPipe => Failure(String::new()),
            _ => Failure(error.to_string()),
        }
    }
}
