//! Numbers plane by plane: how many octets each takes, then the lowest octet of each, then the next of each.

/// Appends numbers.
pub fn put(numbers: impl Iterator<Item = u64> + Clone, out: &mut Vec<u8>) {
    let greatest = numbers.clone().max().unwrap_or(0);
    let width = (u64::BITS - greatest.leading_zeros()).div_ceil(8) as u8;
    out.push(width);
    for plane in 0..width {
        out.extend(numbers.clone().map(|number| (number >> (8 * plane)) as u8));
    }
}

/// Numbers that were written so.
#[derive(Debug, Clone, Copy)]
pub struct Planes<'p> {
    octets: &'p [u8],
    count: usize,
}

impl<'p> Planes<'p> {
    /// Takes so many from the beginning. `None` where there are not so many.
    pub fn take(plain: &mut &'p [u8], count: usize) -> Option<Self> {
        let (&width, rest) = plain.split_first()?;
        if width > 8 {
            return None;
        }
        let (octets, rest) = rest.split_at_checked(count.checked_mul(width.into())?)?;
        *plain = rest;
        Some(Planes { octets, count })
    }

    /// The greatest; 0 where there is none.
    pub fn greatest(&self) -> u64 {
        let plane = |nth: usize| self.octets[nth * self.count..(nth + 1) * self.count].iter();
        let greatest = match self.octets.len().checked_div(self.count) {
            Some(0) | None => None,
            // Folded and not asked for their greatest: so many are looked at at once.
            Some(1) => Some(plane(0).fold(0, |greatest: u8, low| greatest.max(*low)).into()),
            Some(2) => {
                let both = plane(0).zip(plane(1)).map(|(low, high)| u16::from_le_bytes([*low, *high]));
                Some(both.fold(0, u16::max).into())
            }
            Some(_) => (0..self.count).map(|place| self.at(place)).max(),
        };
        greatest.unwrap_or(0)
    }

    /// One of them. 0 where there is none.
    pub fn at(&self, place: usize) -> u64 {
        let planes = self.octets.chunks_exact(self.count.max(1));
        planes.rev().fold(0, |number, plane| number << 8 | u64::from(plane.get(place).copied().unwrap_or(0)))
    }

    /// All, in order, as what is made of each.
    pub fn all<T>(&self, of: impl Fn(u64) -> T) -> Vec<T> {
        let mut all = Vec::new();
        self.append_to(&mut all, of);
        all
    }

    /// Appends all, in order, as what is made of each.
    pub fn append_to<T>(&self, out: &mut Vec<T>, of: impl Fn(u64) -> T) {
        let plane = |nth: usize| &self.octets[nth * self.count..(nth + 1) * self.count];
        // Most take no more than two octets, and these loops are where reading spends its time.
        match self.octets.len().checked_div(self.count) {
            Some(0) | None => out.extend((0..self.count).map(|_| of(0))),
            Some(1) => out.extend(plane(0).iter().map(|low| of((*low).into()))),
            Some(2) => {
                let both = plane(0).iter().zip(plane(1));
                out.extend(both.map(|(low, high)| of(u16::from_le_bytes([*low, *high]).into())));
            }
            Some(3) => {
                let all = plane(0).iter().zip(plane(1)).zip(plane(2));
                out.extend(
                    all.map(|((low, high), top)| of(u32::from_le_bytes([*low, *high, *top, 0]).into())),
                );
            }
            Some(_) => out.extend((0..self.count).map(|place| of(self.at(place)))),
        }
    }
}
