//! What differs between two hives.

use crate::{Change, Hive, KeyId, RegLine, Value};
use neat_content::fold_unit;
use std::{cmp::Ordering, collections::HashMap};

/// The changes that make the keys and values of `before` those of `after`; `root` is the path that both roots stand
/// for. Times, classes and security are not compared.
pub fn compare(before: &Hive, after: &Hive, root: &str) -> Vec<RegLine> {
    let mut lines = Vec::new();
    let mut pending = vec![(Hive::ROOT, Hive::ROOT, root.to_owned())];
    while let Some((old, new, path)) = pending.pop() {
        values(before, old, after, new, &path, &mut lines);
        let (olds, news) = (before.children(old), after.children(new));
        let (mut o, mut n) = (0, 0);
        let mut inner = Vec::new();
        while o < olds.len() || n < news.len() {
            let order = match (olds.get(o), news.get(n)) {
                (Some(old), Some(new)) => {
                    let new = &after.key(*new).name;
                    before.order(&before.key(*old).name, after.units(new))
                }
                (Some(_), None) => Ordering::Less,
                _ => Ordering::Greater,
            };
            match order {
                Ordering::Less => {
                    let key = format!("{path}\\{}", before.name(olds[o]));
                    lines.push(RegLine { key, change: Change::DeleteKey, line: 0 });
                    o += 1;
                }
                Ordering::Greater => {
                    let key = format!("{path}\\{}", after.name(news[n]));
                    lines.extend(after.lines_of(news[n], &key));
                    n += 1;
                }
                Ordering::Equal => {
                    inner.push((olds[o], news[n], format!("{path}\\{}", after.name(news[n]))));
                    o += 1;
                    n += 1;
                }
            }
        }
        pending.extend(inner.into_iter().rev());
    }
    lines
}

fn values(before: &Hive, old: KeyId, after: &Hive, new: KeyId, path: &str, lines: &mut Vec<RegLine>) {
    let mut push = |change| lines.push(RegLine { key: path.to_owned(), change, line: 0 });
    let (olds, news) = (by_name(before, old), by_name(after, new));
    for value in before.values(old) {
        if !news.contains_key(&folded(before, value)) {
            push(Change::DeleteValue { name: before.value_name(value) });
        }
    }
    for value in after.values(new) {
        // Of several with one name in a damaged hive, the first is the one that a system finds.
        if news.get(&folded(after, value)).is_some_and(|first| !std::ptr::eq(*first, value)) {
            continue;
        }
        let same = olds.get(&folded(after, value)).is_some_and(|old| before.same_value(old, after, value));
        if !same {
            let (kind, data) = after.content(value);
            push(Change::Set { name: after.value_name(value), kind, data: data.to_vec() });
        }
    }
}

fn folded(hive: &Hive, value: &Value) -> Vec<u16> {
    hive.units(&value.name).map(fold_unit).collect()
}

fn by_name(hive: &Hive, key: KeyId) -> HashMap<Vec<u16>, &Value> {
    let mut found = HashMap::new();
    for value in hive.values(key) {
        found.entry(folded(hive, value)).or_insert(value);
    }
    found
}
