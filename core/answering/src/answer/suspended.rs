//! A decision that waits to be told something of the folder: what was asked, why, and how it goes on with the reply.

use super::decide::Deciding;
use super::stage::{Next, Stage};
use super::trace::{Cause, Observer, Step, Untidy};
use super::{Credentials, Decision, Encodings, Entry, FileMetadata, Found, Question, Reply, SitePath, Want};
use crate::config::SiteId;
use http::StatusCode;
use std::sync::Arc;

/// A decision that waits for a reply.
#[derive(Debug)]
pub struct Suspended<'a, W = ()> {
    deciding: Box<Deciding<'a, W>>,
    asked: SitePath,
    stage: Stage,
}

impl<'a, W: Observer> Suspended<'a, W> {
    /// Goes on with the reply.
    pub(super) fn resume(self, reply: Reply) -> Decision<'a, W> {
        let Suspended { mut deciding, asked, stage } = self;
        let found = match (reply, stage) {
            (Reply::Settings(chain), Stage::Settings(next)) => return deciding.run_folders(chain, next),
            (Reply::Login(found), Stage::Login(next, credentials)) => {
                return deciding.logged_in(found, credentials, next);
            }
            (_, Stage::Settings(_) | Stage::Login(..)) => {
                return deciding.failed(StatusCode::INTERNAL_SERVER_ERROR);
            }
            (Reply::Names(names), Stage::Listing(path)) => return deciding.list(&path, &names),
            (Reply::Encodings(known), Stage::Encodings(file, liked, status)) => {
                return deciding.encoded(asked, &file, Some(&liked), &known, status);
            }
            (Reply::Found(Found::Entry(Entry::File(facts))), stage) => {
                let types = deciding.settings().map(|site| Arc::clone(&site.media_types)).unwrap_or_default();
                (Found::File(Arc::new(FileMetadata::new(&asked, facts, None, b"", &types))), stage)
            }
            (Reply::Found(found), stage) => (found, stage),
            (_, stage) => (Found::Entry(Entry::Failed), stage),
        };
        let (found, stage) = found;
        let as_index = matches!(stage, Stage::Index(..));
        let looked = |found| Step::Looked { at: asked.clone(), found, as_index };
        deciding.observer.see(|| looked(found.entry()));
        match (stage, found) {
            (Stage::ErrorPage(status), Found::File(file)) => deciding.choose_form(asked, file, Some(status)),
            (Stage::ErrorPage(status), _) => deciding.built_in(status),
            (Stage::Path, Found::Entry(Entry::Folder)) if deciding.path.as_folder => {
                deciding.look_for_index(asked, 0)
            }
            (Stage::Path, Found::Entry(Entry::Folder)) => {
                let path = format!("{}/", deciding.path.written);
                deciding.redirect_to_path(&path, Untidy::Folder)
            }
            (Stage::Path, Found::File(metadata)) if deciding.path.as_folder => {
                deciding.cause = Cause::of(looked(Entry::File(metadata.facts)), Some(&asked));
                deciding.failed(StatusCode::NOT_FOUND)
            }
            (Stage::Path | Stage::Index(..), Found::File(file)) => deciding.choose_form(asked, file, None),
            (Stage::Index(folder, nth), Found::Entry(Entry::Missing | Entry::Folder)) => {
                deciding.look_for_index(folder, nth + 1)
            }
            (Stage::Encodings(file, liked, status), _) => {
                deciding.encoded(asked, &file, Some(&liked), &Encodings::default(), status)
            }
            (Stage::Listing(_), Found::File(_) | Found::Entry(Entry::Folder | Entry::File(_))) => {
                deciding.failed(StatusCode::INTERNAL_SERVER_ERROR)
            }
            (stage, found) => {
                let entry = found.entry();
                deciding.cause = Cause::of(looked(entry), Some(&asked));
                match (stage, entry) {
                    (Stage::Settings(_) | Stage::Login(..), _) => {
                        deciding.failed(StatusCode::INTERNAL_SERVER_ERROR)
                    }
                    (_, Entry::Missing) => deciding.failed(StatusCode::NOT_FOUND),
                    (_, Entry::Forbidden) => deciding.failed(StatusCode::FORBIDDEN),
                    _ => deciding.failed(StatusCode::INTERNAL_SERVER_ERROR),
                }
            }
        }
    }
}

impl<'a, W: Observer> Deciding<'a, W> {
    /// Asks about a place.
    pub(super) fn ask(self: Box<Self>, site: SiteId, path: SitePath, stage: Stage) -> Decision<'a, W> {
        let want = match stage {
            Stage::Settings(_) => Want::Settings,
            Stage::Listing(_) => Want::Names,
            Stage::Encodings(..) => Want::Encodings,
            Stage::Path | Stage::Index(..) | Stage::ErrorPage(_) | Stage::Login(..) => Want::Entry,
        };
        let question = Question { site, path: path.clone(), want };
        Decision::Ask(question, Suspended { deciding: self, asked: path, stage })
    }

    /// Asks whether a password is right.
    pub(super) fn ask_login(self: Box<Self>, credentials: Credentials, next: Next) -> Decision<'a, W> {
        let stage = Stage::Login(next, credentials.clone());
        Decision::Login(credentials, Suspended { deciding: self, asked: SitePath::root(), stage })
    }
}
