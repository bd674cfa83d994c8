//! A plain PDF of one page (ISO 32000), for people who print their notices.

use std::fmt::Write as _;

/// A title and lines below it.
pub fn pdf(title: &str, lines: &[&str]) -> Vec<u8> {
    let mut content = format!("BT /F1 20 Tf 60 760 Td ({title}) Tj /F1 12 Tf 0 -20 Td\n");
    for (number, line) in lines.iter().enumerate() {
        let _ = writeln!(content, "0 -22 Td ({}. {line}) Tj", number + 1);
    }
    content.push_str("ET");
    let objects = [
        "<< /Type /Catalog /Pages 2 0 R >>".to_owned(),
        "<< /Type /Pages /Kids [3 0 R] /Count 1 >>".to_owned(),
        "<< /Type /Page /Parent 2 0 R /MediaBox [0 0 595 842] /Contents 4 0 R /Resources << /Font << /F1 5 0 R >> >> >>".to_owned(),
        format!("<< /Length {} >>\nstream\n{content}\nendstream", content.len()),
        "<< /Type /Font /Subtype /Type1 /BaseFont /Times-Roman >>".to_owned(),
    ];
    let mut out = String::from("%PDF-1.4\n");
    let mut places = Vec::new();
    for (number, object) in objects.iter().enumerate() {
        places.push(out.len());
        let _ = write!(out, "{} 0 obj\n{object}\nendobj\n", number + 1);
    }
    let table = out.len();
    let _ = write!(out, "xref\n0 {}\n0000000000 65535 f \n", objects.len() + 1);
    for place in places {
        let _ = writeln!(out, "{place:010} 00000 n ");
    }
    let _ = write!(out, "trailer << /Size {} /Root 1 0 R >>\nstartxref\n{table}\n%%EOF\n", objects.len() + 1);
    out.into_bytes()
}
