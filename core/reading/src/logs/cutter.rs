//! A layout ready to cut lines, whichever kind it is.
//!
//! ```
//! use exedra_common::{NumberColumn, TextColumn};
//! use exedra_reading::logs::{Cutter, Layout};
//! let mut cutter = Cutter::new(&Layout::understand("{client} {time:seconds} {path} {status}").unwrap());
//! let line = b"192.0.2.7 1794633160 /tides 404";
//! let cut = cutter.run(line).unwrap();
//! assert_eq!((cut.number(NumberColumn::Status), cut.text(line, TextColumn::Path)), (Some(404), Some(&b"/tides"[..])));
//! assert!(cutter.run(b"192.0.2.7 1794633160 /tides many").is_err());
//! ```

use super::cut::{Cut, Stop};
use super::layout::Layout;
use super::marks::Marks;
use super::objects::Objects;
use super::plan::Plan;
use super::template::variants;
use super::w3c::Listed;
use super::wrapped::wrapped;
use exedra_common::columns::Projection;
use std::borrow::Cow;

/// A layout ready to cut lines.
#[derive(Debug, Clone)]
pub struct Cutter {
    kind: Kind,
    fields: usize,
    heading: Option<Box<[u8]>>,
    within: Option<Box<[u8]>>,
}

#[derive(Debug, Clone)]
enum Kind {
    /// A template: one plan for each way in which its optional parts may be there or not.
    Plans(Vec<Plan>),
    /// One object of JSON on each line.
    Objects(Objects),
    /// Fields that the file itself lists.
    Listed(Listed),
}

impl Cutter {
    /// A cutter that reads every column.
    pub fn new(layout: &Layout) -> Self {
        Cutter::for_columns(layout, Projection::everything())
    }

    /// A cutter that only walks past the columns nobody wants.
    pub fn for_columns(layout: &Layout, projection: Projection) -> Self {
        let hints = &layout.hints;
        let kind = if layout.is_json() {
            Kind::Objects(Objects::new(projection, hints))
        } else if layout.is_extended() {
            Kind::Listed(Listed::new(projection, hints))
        } else {
            let variants = variants(&layout.pieces);
            Kind::Plans(variants.iter().map(|pieces| Plan::new(pieces, projection, hints)).collect())
        };
        let octets = |text: &Option<String>| text.as_deref().map(|text| text.as_bytes().into());
        Cutter { kind, fields: 0, heading: octets(&hints.heading), within: octets(&hints.within) }
    }

    /// Whether a line names the columns of those that follow it.
    pub fn is_heading(&self, line: &[u8]) -> bool {
        self.heading.as_deref() == Some(line)
    }

    /// The line that this one is wrapped around, where the layout says that it is.
    pub fn unwrapped<'l>(&self, line: &'l [u8]) -> Cow<'l, [u8]> {
        match self.within.as_deref().and_then(|key| wrapped(line, key)) {
            Some(inner) => inner,
            None => Cow::Borrowed(line),
        }
    }

    /// How many fields the last line that could be read had.
    pub fn fields(&self) -> usize {
        self.fields
    }

    /// Whether it is worth trying beside others: the extended format only where a log has listed its fields.
    pub fn applies(&self) -> bool {
        !matches!(&self.kind, Kind::Listed(listed) if !listed.is_told)
    }

    /// From now on requests may be left for whoever wants to look into those of a few lines only.
    pub(super) fn put_off_requests(&mut self) {
        if let Kind::Plans(plans) = &mut self.kind {
            plans.iter_mut().for_each(Plan::put_off_requests);
        }
    }

    /// Takes note of a line that begins with `#`.
    pub fn directive(&mut self, line: &[u8]) {
        if let Kind::Listed(listed) = &mut self.kind {
            listed.directive(line);
        }
    }

    /// Cuts the line that begins at a place of some octets, if it begins as nearly all do, and says how long it is without its end. Where
    /// nothing is said, nothing is known yet.
    #[inline]
    pub(super) fn run_ahead(
        &mut self,
        octets: &[u8],
        line: usize,
        marks: &mut Marks,
        cut: &mut Cut,
    ) -> Option<usize> {
        let Kind::Plans(plans) = &mut self.kind else { return None };
        let plan = plans.first_mut().filter(|_| self.within.is_none())?;
        let length = plan.run_ahead(octets, line, marks, cut)?;
        self.fields = plan.fields();
        Some(length)
    }

    /// Cuts one line, given without its line end. What could not be read stops where the way that came furthest did.
    pub fn run(&mut self, line: &[u8]) -> Result<Cut, Stop> {
        let mut cut = Cut::default();
        self.run_into(line, &mut cut).map(|()| cut)
    }

    /// As [`Cutter::run`], into a cut of whatever line before.
    pub fn run_into(&mut self, line: &[u8], cut: &mut Cut) -> Result<(), Stop> {
        match &mut self.kind {
            Kind::Objects(objects) => {
                *cut = objects.run(line)?;
                self.fields = objects.fields();
                Ok(())
            }
            Kind::Listed(listed) => {
                *cut = listed.run(line)?;
                self.fields = listed.fields();
                Ok(())
            }
            Kind::Plans(plans) => {
                let mut furthest: Option<Stop> = None;
                for plan in plans {
                    match plan.run_into(line, cut) {
                        Ok(()) => {
                            self.fields = plan.fields();
                            return Ok(());
                        }
                        Err(stop) if furthest.is_none_or(|far| stop.at > far.at) => furthest = Some(stop),
                        Err(_) => {}
                    }
                }
                // There is a plan for every layout, be it one without pieces.
                furthest.map_or(Ok(()), Err)
            }
        }
    }
}
