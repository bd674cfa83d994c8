//! Pictures: what all of ours have in common, and a drawing as an SVG or a PNG.

use crate::failure::Failure;
use plotters::prelude::*;
use std::path::Path;
use std::sync::Arc;

/// How large a picture is, in its own measure.
pub const SIZE: (u32, u32) = (1120, 640);
/// What charts are set in: the console's face, where whoever looks has it.
pub const FACE: &str = "'Source Sans 3', sans-serif";
/// The same for pictures, which are drawn here; and what it calls itself.
const OWN_FACE: &[u8] = include_bytes!("../../data/face.ttf");
const OWN_NAME: &str = "Exedra Chart";
/// How much finer than its measures a PNG is drawn.
const FINENESS: f32 = 1.5;

/// What is drawn on.
pub const PAPER: RGBColor = RGBColor(0xf5, 0xf7, 0xf6);
/// What is written.
pub const INK: RGBColor = RGBColor(0x14, 0x21, 0x2b);
/// Lines to measure by.
pub const FAINT: RGBColor = RGBColor(0xd5, 0xdc, 0xdb);
/// What is said beside.
pub const MUTED: RGBColor = RGBColor(0x5a, 0x69, 0x70);
/// Told apart by people with any colour sight, and by their names without any.
pub const LINES: [RGBColor; 6] = [
    RGBColor(0x0f, 0x5e, 0x6b),
    RGBColor(0xa4, 0x50, 0x2e),
    RGBColor(0x4b, 0x4f, 0x9e),
    RGBColor(0x8a, 0x8f, 0x3c),
    RGBColor(0x8c, 0x3d, 0x6e),
    RGBColor(0x3d, 0x74, 0x4a),
];

/// What came of drawing.
pub type Drawn = Result<(), Box<dyn std::error::Error>>;

/// Letters of a size and a colour.
pub fn text(size: u32, colour: &RGBColor) -> TextStyle<'static> {
    (FACE, size).into_font().color(colour)
}

/// Says what is wrong with a name before anything is made for it.
pub fn check_name(path: &Path) -> Result<(), Failure> {
    match path.extension().and_then(|extension| extension.to_str()) {
        Some("svg" | "png") => Ok(()),
        _ => Err(Failure(format!(
            "a chart is drawn as .svg or .png, which {} does not end with",
            path.display()
        ))),
    }
}

/// Writes a drawing into a file, by its ending.
pub fn write(svg: &str, path: &Path) -> Result<(), Failure> {
    match path.extension().is_some_and(|extension| extension == "png") {
        true => crate::out::file::replace(path, &rendered(svg)?),
        false => crate::out::file::replace(path, svg.as_bytes()),
    }
}

/// A drawing as a PNG, its text in a face of our own: a server may have none.
fn rendered(svg: &str) -> Result<Vec<u8>, Failure> {
    let mut fonts = resvg::usvg::fontdb::Database::new();
    fonts.load_font_data(OWN_FACE.to_vec());
    fonts.set_sans_serif_family(OWN_NAME);
    let options = resvg::usvg::Options { fontdb: Arc::new(fonts), ..Default::default() };
    let tree = resvg::usvg::Tree::from_str(svg, &options)?;
    let scaled = |length: f32| (length * FINENESS) as u32;
    let size = tree.size();
    let mut picture = resvg::tiny_skia::Pixmap::new(scaled(size.width()), scaled(size.height()))
        .ok_or_else(|| Failure("there is not enough memory for the picture".to_owned()))?;
    let scale = resvg::tiny_skia::Transform::from_scale(FINENESS, FINENESS);
    resvg::render(&tree, scale, &mut picture.as_mut());
    picture.encode_png().map_err(|error| Failure(error.to_string()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_two_kinds_of_files_are_drawn() {
        assert!(check_name(Path::new("a.svg")).is_ok() && check_name(Path::new("b.png")).is_ok());
        for other in ["a.jpg", "svg", "a.SVG.txt"] {
            let said = check_name(Path::new(other)).unwrap_err().0;
            assert!(said.contains(".svg or .png") && said.contains(other), "{said}");
        }
    }
}
