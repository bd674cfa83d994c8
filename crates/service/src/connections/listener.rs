//! How connections on one address begin.

/// How connections on one address begin.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ListenerOptions {
    /// Whether they are secured.
    pub https: bool,
    /// Whether somebody says first whom they come from.
    pub announced: bool,
}
