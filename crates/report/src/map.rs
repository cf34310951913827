//! Maps of sizes: areas as large as what they stand for, as square as they can be.
//!
//! The rows are found by the rule of Bruls, Huizing and van Wijk (Squarified Treemaps, 2000): an area joins the row as
//! long as the worst shape in it does not get worse.

/// Something with a size, and what it consists of.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Area {
    /// What it is.
    pub name: String,
    /// How large it is, in bytes.
    pub bytes: u64,
    /// What is in it; may be less than all of it.
    pub inside: Vec<Area>,
}

/// A rectangle, from its upper left corner.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Rect {
    /// From the left.
    pub x: f64,
    /// From the top.
    pub y: f64,
    /// Width.
    pub w: f64,
    /// Height.
    pub h: f64,
}

impl Rect {
    /// A smaller one inside: this much less at each side, and `top` more above.
    #[must_use]
    pub fn inset(self, by: f64, top: f64) -> Self {
        Self {
            x: self.x + by,
            y: self.y + by + top,
            w: (self.w - 2.0 * by).max(0.0),
            h: (self.h - 2.0 * by - top).max(0.0),
        }
    }
}

/// A rectangle for each size, in their order, which must be falling; together they fill `whole`.
pub fn squarified(sizes: &[u64], whole: Rect) -> Vec<Rect> {
    let total: f64 = sizes.iter().map(|size| *size as f64).sum();
    let mut rects = Vec::with_capacity(sizes.len());
    if total <= 0.0 || whole.w <= 0.0 || whole.h <= 0.0 {
        return vec![Rect { w: 0.0, h: 0.0, ..whole }; sizes.len()];
    }
    let scale = whole.w * whole.h / total;
    let areas: Vec<f64> = sizes.iter().map(|size| *size as f64 * scale).collect();
    let mut left = whole;
    let mut rest = &areas[..];
    while !rest.is_empty() {
        let side = left.w.min(left.h);
        let mut count = 1;
        while count < rest.len() && worst(&rest[..=count], side) <= worst(&rest[..count], side) {
            count += 1;
        }
        let (row, after) = rest.split_at(count);
        let sum: f64 = row.iter().sum();
        let is_column = left.w >= left.h;
        // How thick the row is: all of its area along the shorter side.
        let thick = if side > 0.0 { sum / side } else { 0.0 };
        let mut along = 0.0;
        for area in row {
            let long = if sum > 0.0 { area / sum * side } else { 0.0 };
            rects.push(if is_column {
                Rect { x: left.x, y: left.y + along, w: thick, h: long }
            } else {
                Rect { x: left.x + along, y: left.y, w: long, h: thick }
            });
            along += long;
        }
        if is_column {
            left = Rect { x: left.x + thick, w: (left.w - thick).max(0.0), ..left };
        } else {
            left = Rect { y: left.y + thick, h: (left.h - thick).max(0.0), ..left };
        }
        rest = after;
    }
    rects
}

/// The worst of the shapes in a row of these areas along `side`: the longer side by the shorter one.
fn worst(row: &[f64], side: f64) -> f64 {
    let sum: f64 = row.iter().sum();
    let (least, most) =
        row.iter().fold((f64::MAX, 0.0_f64), |(least, most), area| (least.min(*area), most.max(*area)));
    if least <= 0.0 || side <= 0.0 {
        return f64::MAX;
    }
    let (sum, side) = (sum * sum, side * side);
    (side * most / sum).max(sum / (side * least))
}

/// Areas from the largest to the smallest; those below `least` of all bytes become one, called `others`.
pub(crate) fn tidied(mut areas: Vec<Area>, least: f64, others: &str) -> Vec<Area> {
    areas.sort_by(|a, b| b.bytes.cmp(&a.bytes).then_with(|| a.name.cmp(&b.name)));
    let total: u64 = areas.iter().map(|area| area.bytes).sum();
    let bound = (total as f64 * least) as u64;
    let large = areas.iter().take_while(|area| area.bytes > bound).count();
    let small = areas.split_off(large.min(areas.len()));
    let bytes: u64 = small.iter().map(|area| area.bytes).sum();
    if bytes > 0 {
        let name = format!("{others} ({})", small.len());
        areas.push(Area { name, bytes, inside: Vec::new() });
        areas.sort_by_key(|area| std::cmp::Reverse(area.bytes));
    }
    areas
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn areas_fill_the_whole_in_proportion_and_do_not_overlap() {
        let whole = Rect { x: 10.0, y: 20.0, w: 600.0, h: 400.0 };
        for sizes in [vec![6, 6, 4, 3, 2, 2, 1], vec![1], vec![1000, 1], (1..200).rev().collect()] {
            let rects = squarified(&sizes, whole);
            let total: u64 = sizes.iter().sum();
            for (rect, size) in rects.iter().zip(&sizes) {
                let wanted = *size as f64 / total as f64 * 240_000.0;
                assert!((rect.w * rect.h - wanted).abs() < 0.01, "{rect:?} {wanted}");
                assert!(rect.x >= 9.999 && rect.y >= 19.999);
                assert!(rect.x + rect.w <= 610.001 && rect.y + rect.h <= 420.001, "{rect:?}");
            }
            for (n, a) in rects.iter().enumerate() {
                for b in &rects[..n] {
                    let apart = a.x + a.w <= b.x + 1e-6
                        || b.x + b.w <= a.x + 1e-6
                        || a.y + a.h <= b.y + 1e-6
                        || b.y + b.h <= a.y + 1e-6;
                    assert!(apart, "{a:?} {b:?}");
                }
            }
        }
        // The example of the description: the first two stand one above the other at the left.
        let rects = squarified(&[6, 6, 4, 3, 2, 2, 1], Rect { x: 0.0, y: 0.0, w: 6.0, h: 4.0 });
        assert_eq!((rects[0].w, rects[0].h, rects[1].x), (3.0, 2.0, 0.0));
        assert_eq!(squarified(&[], whole), []);
        assert!(squarified(&[0, 0], whole).iter().all(|rect| rect.w * rect.h == 0.0));
    }

    #[test]
    fn small_areas_become_one() {
        let area = |name: &str, bytes| Area { name: name.into(), bytes, inside: Vec::new() };
        let all = tidied(vec![area("a", 1), area("b", 900), area("c", 99), area("d", 2)], 0.01, "others");
        let names: Vec<&str> = all.iter().map(|area| area.name.as_str()).collect();
        assert_eq!(names, ["b", "c", "others (2)"]);
        assert_eq!(all.iter().map(|area| area.bytes).sum::<u64>(), 1002);
    }
}
