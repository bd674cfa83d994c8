//! What must be there before the service starts, named with the place in the configuration that asks for it.

use exedra_answering::config::{Config, Diagnostic};

/// Looks for the folders that a configuration names.
pub fn preflight(config: &Config) -> Vec<Diagnostic> {
    let mut found = Vec::new();
    for (site, folder) in config.sites.iter().filter_map(|site| Some((site, site.root()?))) {
        let reason = match std::fs::metadata(folder) {
            Ok(entry) if entry.is_dir() => match std::fs::read_dir(folder) {
                Ok(_) => None,
                Err(error) => Some(format!("it cannot be read: {error}")),
            },
            Ok(_) => Some("this is a file, and a site needs a folder".to_owned()),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
                Some("there is no such folder".to_owned())
            }
            Err(error) => Some(error.to_string()),
        };
        if let Some(reason) = reason {
            let message = format!("the folder of `{}` is missing: {}", site.name.value, folder.display());
            let remedy = "make it, or correct `folder`: relative ones begin where the configuration lies";
            found.push(Diagnostic::error(site.folder_place().clone(), message, reason).remedy(remedy));
        }
    }
    found
}

/// Lets this process open as many files and connections as the system allows it; by default it is held to a
/// fraction of that.
pub fn raise_open_files() {
    use rustix::process::{Resource, getrlimit, setrlimit};
    let mut limit = getrlimit(Resource::Nofile);
    limit.current = limit.maximum;
    if let Err(error) = setrlimit(Resource::Nofile, limit) {
        tracing::warn!("the number of open files stays as it is: {error}");
    }
}

/// Has memory given in small pages: of the many buffers of idle connections, only what was touched then counts.
pub fn prefer_small_pages() {
    if let Err(error) = rustix::thread::disable_transparent_huge_pages(true) {
        tracing::debug!("memory comes in pages of the system's choice: {error}");
    }
}
