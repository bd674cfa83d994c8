//! Some of all columns: what nobody wants is not even cut out of a line.
//!
//! ```
//! use exedra_common::{NumberColumn, Projection, TextColumn};
//! let some: Projection = [TextColumn::Path, TextColumn::Client].into_iter().collect();
//! assert!(some.has(TextColumn::Path) && !some.has(NumberColumn::Status));
//! assert_eq!(some.with(Projection::everything()), Projection::everything());
//! ```

use super::{Column, NumberColumn, TextColumn};

/// Which columns somebody wants. The time always is among them; of a derived column the one it follows from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Projection {
    texts: u32,
    numbers: u32,
}

const _: () = assert!(TextColumn::COUNT <= 32 && NumberColumn::COUNT <= 32);

impl Projection {
    /// Every column.
    pub fn everything() -> Self {
        Column::kept().collect()
    }

    /// Nothing but the time.
    pub fn time() -> Self {
        Projection { texts: 0, numbers: 0 }
    }

    /// What either wants.
    pub fn with(self, other: Projection) -> Self {
        Projection { texts: self.texts | other.texts, numbers: self.numbers | other.numbers }
    }

    /// What both want.
    pub fn of(self, other: Projection) -> Self {
        Projection { texts: self.texts & other.texts, numbers: self.numbers & other.numbers }
    }

    /// Whether a column is wanted.
    pub fn has(self, column: impl Into<Column>) -> bool {
        match column.into().base() {
            Column::Text(text) => self.texts & (1 << text.index()) != 0,
            Column::Number(number) => self.numbers & (1 << number.index()) != 0,
            Column::Time | Column::Derived(_) => true,
        }
    }

    /// The text columns that are wanted.
    pub fn texts(self) -> impl Iterator<Item = TextColumn> {
        TextColumn::ALL.iter().copied().filter(move |text| self.texts & (1 << text.index()) != 0)
    }

    /// The columns of numbers that are wanted.
    pub fn numbers(self) -> impl Iterator<Item = NumberColumn> {
        NumberColumn::ALL.iter().copied().filter(move |number| self.numbers & (1 << number.index()) != 0)
    }
}

impl<C: Into<Column>> FromIterator<C> for Projection {
    fn from_iter<I: IntoIterator<Item = C>>(columns: I) -> Self {
        let mut all = Projection::time();
        for column in columns {
            match column.into().base() {
                Column::Text(text) => all.texts |= 1 << text.index(),
                Column::Number(number) => all.numbers |= 1 << number.index(),
                Column::Time | Column::Derived(_) => {}
            }
        }
        all
    }
}
