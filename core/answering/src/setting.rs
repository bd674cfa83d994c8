//! One setting: what it holds, how it is written, what it is for.
//!
//! ```
//! use exedra_answering::setting::{Kind, required, setting};
//! let name = required(setting("site", "name", Kind::Text, "name = \"harbour\"", "what it is called"));
//! assert!(name.required);
//! assert_eq!(name.kind.in_words(), "a text in quotation marks");
//! ```

/// What a setting holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// One text.
    Text,
    /// A list of texts.
    Texts,
    /// `true` or `false`.
    Flag,
    /// A whole number, not below zero.
    Number,
    /// One text, or a section of its own.
    TextOrSection,
    /// One text, or a whole number.
    TextOrNumber,
    /// One text, or a list of them.
    TextOrTexts,
    /// `true` or `false`, or a section of its own.
    FlagOrSection,
    /// A list of texts, or a section of its own.
    TextsOrSection,
    /// A section of its own.
    Section,
    /// Any number of sections of its own.
    Sections,
}

impl Kind {
    /// The kind as a person would say it.
    pub fn in_words(self) -> &'static str {
        match self {
            Kind::Text => "a text in quotation marks",
            Kind::Texts => "a list of texts",
            Kind::Flag => "true or false",
            Kind::Number => "a whole number",
            Kind::TextOrSection => "a text in quotation marks, or a section",
            Kind::TextOrNumber => "a text in quotation marks, or a whole number",
            Kind::TextOrTexts => "a text in quotation marks, or a list of texts",
            Kind::FlagOrSection => "true or false, or a section",
            Kind::TextsOrSection => "a list of texts, or a section",
            Kind::Section => "a section",
            Kind::Sections => "sections in double brackets",
        }
    }
}

/// One setting.
#[derive(Debug, Clone, Copy)]
pub struct Setting {
    /// The section it belongs to; empty for the top of the file.
    pub section: &'static str,
    /// Its key.
    pub key: &'static str,
    /// What it holds.
    pub kind: Kind,
    /// Whether a section without it is a mistake.
    pub required: bool,
    /// How it is written.
    pub example: &'static str,
    /// What it is for.
    pub about: &'static str,
}

/// A setting that may be left out.
pub const fn setting(
    section: &'static str,
    key: &'static str,
    kind: Kind,
    example: &'static str,
    about: &'static str,
) -> Setting {
    Setting { section, key, kind, required: false, example, about }
}

/// A setting that its section must have.
pub const fn required(mut setting: Setting) -> Setting {
    setting.required = true;
    setting
}
