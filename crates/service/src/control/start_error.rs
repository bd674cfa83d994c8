//! Why the service could not start, or change its configuration.

use exedra_store::StoreError;
use std::io;
use std::net::SocketAddr;
use std::path::PathBuf;
use thiserror::Error;

/// Why the service could not start.
#[derive(Debug, Error)]
pub enum StartError {
    /// An address cannot be had.
    #[error("{what} cannot listen on {address}: {error}{}", remedy(error))]
    Listen {
        /// Who wants it.
        what: &'static str,
        /// The address.
        address: SocketAddr,
        /// What the system says.
        error: io::Error,
    },
    /// A folder or file cannot be used.
    #[error("{} cannot be used: {error}", path.display())]
    Path {
        /// Which one.
        path: PathBuf,
        /// What the system says.
        error: io::Error,
    },
    /// The system gives this process too few descriptors.
    #[error(
        "this process may have {all} descriptors (connections, files, logs), and needs {needed} at least: raise the limit, as by `ulimit -n {needed}` or LimitNOFILE={needed}"
    )]
    Descriptors {
        /// How many it may have.
        all: usize,
        /// How many it needs.
        needed: usize,
    },
    /// The service cannot become somebody else.
    #[error("the service cannot become `{user}`: {reason}")]
    User {
        /// Whom.
        user: String,
        /// Why not.
        reason: String,
    },
    /// Another service has the state folder.
    #[error(
        "{} belongs to another Exedra that is running{holder}: stop that one, or name another `state` in this configuration",
        path.display()
    )]
    Taken {
        /// The folder.
        path: PathBuf,
        /// Which process it is, in words.
        holder: String,
    },
    /// A database cannot be used.
    #[error(transparent)]
    Store(#[from] StoreError),
}

fn remedy(error: &io::Error) -> &'static str {
    match error.kind() {
        io::ErrorKind::AddrInUse => "; another program has it, perhaps another Exedra: choose another port",
        io::ErrorKind::PermissionDenied => "; ports below 1024 need privileges",
        _ => "",
    }
}
