//! The macro behind the list of columns.
//!
//! It parts one list into what each kind of column is in a batch, so that a column of numbers cannot be taken for one of
//! texts: the enums `TextColumn`, `NumberColumn` and `DerivedColumn`, each with its `ALL` and `COUNT`, and `Column` over
//! them, whose `ALL` keeps the order of the list. The documentation of a column in the list is also what users are told.

macro_rules! columns {
    // One after the other, each into its bag.
    (@part [$($all:tt)*] [$($text:tt)*] [$($number:tt)*] [$($derived:tt)*]
        $(#[doc = $doc:literal])+ Time = $declaration:expr; $($rest:tt)*) => {
        columns! { @part [$($all)* (Column::Time, [$($doc)+], $declaration)] [$($text)*] [$($number)*] [$($derived)*] $($rest)* }
    };
    (@part [$($all:tt)*] [$($text:tt)*] [$($number:tt)*] [$($derived:tt)*]
        $(#[doc = $doc:literal])+ Text $name:ident = $declaration:expr; $($rest:tt)*) => {
        columns! { @part [$($all)* (Column::Text(TextColumn::$name), [$($doc)+], $declaration)]
            [$($text)* $(#[doc = $doc])+ $name,] [$($number)*] [$($derived)*] $($rest)* }
    };
    (@part [$($all:tt)*] [$($text:tt)*] [$($number:tt)*] [$($derived:tt)*]
        $(#[doc = $doc:literal])+ Number $name:ident = $declaration:expr; $($rest:tt)*) => {
        columns! { @part [$($all)* (Column::Number(NumberColumn::$name), [$($doc)+], $declaration)]
            [$($text)*] [$($number)* $(#[doc = $doc])+ $name,] [$($derived)*] $($rest)* }
    };
    (@part [$($all:tt)*] [$($text:tt)*] [$($number:tt)*] [$($derived:tt)*]
        $(#[doc = $doc:literal])+ Derived $name:ident = $declaration:expr; $($rest:tt)*) => {
        columns! { @part [$($all)* (Column::Derived(DerivedColumn::$name), [$($doc)+], $declaration)]
            [$($text)*] [$($number)*] [$($derived)* $(#[doc = $doc])+ $name,] $($rest)* }
    };
    (@part [$(($column:expr, [$($doc:literal)+], $declaration:expr))*] [$($text:tt)*] [$($number:tt)*] [$($derived:tt)*]) => {
        columns! { @enum "A column of text, coded by a dictionary." TextColumn $($text)* }
        columns! { @enum "A column of numbers." NumberColumn $($number)* }
        columns! { @enum "A column that follows from a text column; it is worked out when asked for, and kept nowhere." DerivedColumn $($derived)* }

        /// Every column with what is declared of it, in the order in which people are shown them.
        const DECLARED: &[(Column, Declaration)] =
            &[$(($column, Declaration { meaning: concat!($($doc),+), ..$declaration })),*];
    };
    (@enum $meaning:literal $name:ident $($(#[doc = $doc:literal])+ $variant:ident,)*) => {
        #[doc = $meaning]
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
        #[repr(u8)]
        pub enum $name {
            $($(#[doc = $doc])+ $variant,)*
        }

        impl $name {
            /// All of them, in the order of the list of columns.
            pub const ALL: &[$name] = &[$($name::$variant),*];
            /// How many there are.
            pub const COUNT: usize = $name::ALL.len();

            /// The place in arrays that hold one thing for each of them.
            #[inline]
            pub const fn index(self) -> usize {
                self as usize
            }
        }
    };
    ($($list:tt)+) => { columns! { @part [] [] [] [] $($list)+ } };
}
