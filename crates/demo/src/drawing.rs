//! Pictures drawn by rule: the view from the gallery, and pages of the parish registers.

use std::fmt::Write as _;
use std::io;

/// The view from the gallery at dusk, as PNG.
pub fn panorama(width: u32, height: u32) -> io::Result<Vec<u8>> {
    let mut pixels = Vec::with_capacity((width * height * 3) as usize);
    let horizon = f64::from(height) * 0.55;
    for y in 0..height {
        for x in 0..width {
            pixels.extend(pixel(f64::from(x) / f64::from(width), f64::from(y), horizon, f64::from(height)));
        }
    }
    let mut out = Vec::new();
    let mut encoder = png::Encoder::new(&mut out, width, height);
    encoder.set_color(png::ColorType::Rgb);
    encoder.set_depth(png::BitDepth::Eight);
    encoder.write_header()?.write_image_data(&pixels)?;
    Ok(out)
}

fn pixel(x: f64, y: f64, horizon: f64, height: f64) -> [u8; 3] {
    let hills = horizon - 26.0 * (x * 7.0).sin().abs() - 14.0 * (x * 23.0).sin().abs() * (1.0 - x);
    let sun = ((x - 0.72) * 2.8).hypot((y - horizon * 0.8) / height);
    let shade =
        |from: [f64; 3], to: [f64; 3], part: f64| [0, 1, 2].map(|c| from[c] + (to[c] - from[c]) * part);
    let colour = if y < hills {
        let glow = (1.0 - sun * 3.0).max(0.0);
        let sky = shade([38.0, 58.0, 92.0], [236.0, 168.0, 112.0], (y / horizon).powi(2));
        shade(sky, [255.0, 236.0, 190.0], if sun < 0.045 { 1.0 } else { glow * 0.6 })
    } else if y < horizon {
        [34.0, 44.0, 58.0]
    } else {
        let depth = (y - horizon) / (height - horizon);
        let ripple = ((y * 1.7 + (x * 40.0).sin() * 3.0) / (1.0 + depth * 4.0)).sin();
        let path = (1.0 - ((x - 0.72).abs() * (6.0 - 3.0 * depth))).max(0.0) * (0.5 + 0.5 * ripple);
        shade(shade([92.0, 96.0, 116.0], [22.0, 38.0, 60.0], depth), [250.0, 196.0, 130.0], path * 0.8)
    };
    colour.map(|value| value.clamp(0.0, 255.0) as u8)
}

const SURNAMES: [&str; 12] = [
    "Ashdown", "Brimble", "Corrie", "Dunnet", "Eskby", "Farrow", "Gannock", "Holm", "Irving", "Joss", "Kell",
    "Lindry",
];
const GIVEN: [&str; 10] =
    ["Agnes", "Bartholomew", "Cecily", "Daniel", "Esther", "Francis", "Grace", "Hugh", "Isabel", "John"];

/// The names on one page of a register.
pub fn entries(register: &str, year: i16, page: usize) -> Vec<(&'static str, &'static str)> {
    let start = register.len() * 31 + year as usize * 7 + page * 13;
    (0..12).map(|line| (SURNAMES[(start + line * 5) % 12], GIVEN[(start / 3 + line * 7) % 10])).collect()
}

/// A page of a register, as SVG.
pub fn register_page(register: &str, year: i16, page: usize) -> String {
    let mut out = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 600 800\" font-family=\"cursive\">\n\
         <rect width=\"600\" height=\"800\" fill=\"#f3e9d2\"/>\n<text x=\"60\" y=\"70\" font-size=\"26\">{register}, {year}, page {page}</text>\n"
    );
    for (line, (surname, given)) in entries(register, year, page).into_iter().enumerate() {
        let y = 130 + line * 52;
        let _ = writeln!(
            out,
            "<path d=\"M50 {}h500\" stroke=\"#bfa98a\"/><text x=\"64\" y=\"{y}\" font-size=\"21\" fill=\"#3a2c20\">{given} {surname}</text>\
             <text x=\"420\" y=\"{y}\" font-size=\"18\" fill=\"#3a2c20\">{} of month {}</text>",
            y + 10,
            1 + (line * 3 + page) % 28,
            1 + line
        );
    }
    out + "</svg>\n"
}
