//! The fog signal, as a WAV file: two blasts of three seconds in every minute, with the sea behind.

use std::f64::consts::TAU;

const RATE: u32 = 16_000;

/// Some seconds of it: one channel, 16 bits, 16,000 samples a second.
pub fn fog_signal(seconds: u32) -> Vec<u8> {
    let samples = RATE * seconds;
    let mut out = Vec::with_capacity(44 + samples as usize * 2);
    out.extend_from_slice(b"RIFF");
    out.extend_from_slice(&(36 + samples * 2).to_le_bytes());
    out.extend_from_slice(b"WAVEfmt ");
    for (number, width) in [(16, 4), (1, 2), (1, 2), (RATE, 4), (RATE * 2, 4), (2, 2), (16, 2)] {
        out.extend_from_slice(&u32::to_le_bytes(number)[..width]);
    }
    out.extend_from_slice(b"data");
    out.extend_from_slice(&(samples * 2).to_le_bytes());
    let mut noise = 0x2545_f491_u32;
    let mut sea = 0.0;
    for sample in 0..samples {
        let time = f64::from(sample) / f64::from(RATE);
        noise ^= noise << 13;
        noise ^= noise >> 17;
        noise ^= noise << 5;
        sea += (f64::from(noise) / f64::from(u32::MAX) - 0.5 - sea) * 0.04;
        let swell = 0.5 + 0.4 * (TAU * time / 9.0).sin();
        let blast = match time % 60.0 {
            second if (2.0..5.0).contains(&second) => (second - 2.0).min(5.0 - second),
            second if (8.0..11.0).contains(&second) => (second - 8.0).min(11.0 - second),
            _ => 0.0,
        };
        let horn = [(110.0, 0.5), (220.0, 0.25), (331.0, 0.15)]
            .iter()
            .map(|(pitch, part)| part * (TAU * pitch * time).sin())
            .sum::<f64>();
        let level = (horn * (blast * 4.0).min(1.0) * 0.7 + sea * swell * 2.0).clamp(-1.0, 1.0);
        out.extend_from_slice(&((level * 32_000.0) as i16).to_le_bytes());
    }
    out
}
