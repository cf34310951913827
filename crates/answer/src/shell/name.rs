//! Names of machines and layouts of keyboards as the shell makes them.

/// What a name may have of a serial number.
const SERIAL: &str = "$(tr -cd A-Za-z0-9- </sys/class/dmi/id/product_serial | cut -c 1-40)";
/// How versions before 0.2 said it.
const FORMER_SERIAL: &str = "$(cat /sys/class/dmi/id/product_serial)";
/// Makes a name of what is left when a machine has no number: none begins or ends with `-`, or is empty.
const FIT: (&str, &str) = ("$(echo \"", "\" | sed 's/^-*//;s/-*$//;s/^$/machine/')");
const RANDOM: &str = "$(tr -dc a-z0-9 </dev/urandom | head -c ";

/// What is changed: all layouts, then all variants.
pub(super) fn keyboard_values(layouts: &str) -> String {
    let all: Vec<(&str, &str)> = layouts.split(' ').map(crate::tables::split_xkb).collect();
    let join = |pick: fn(&(&str, &str)) -> String| all.iter().map(pick).collect::<Vec<_>>().join(",");
    let (layouts, variants) = (join(|own| own.0.to_owned()), join(|own| own.1.to_owned()));
    format!("s/^XKBLAYOUT=.*/XKBLAYOUT={layouts}/;s/^XKBVARIANT=.*/XKBVARIANT={variants}/")
}

pub(super) fn of_keyboard_values(values: &str) -> Option<String> {
    let rest = values.strip_prefix("s/^XKBLAYOUT=.*/XKBLAYOUT=")?.strip_suffix('/')?;
    let (layouts, variants) = rest.split_once("/;s/^XKBVARIANT=.*/XKBVARIANT=")?;
    let whole = |(layout, variant): (&str, &str)| {
        if variant.is_empty() { layout.to_owned() } else { format!("{layout}({variant})") }
    };
    Some(layouts.split(',').zip(variants.split(',')).map(whole).collect::<Vec<_>>().join(" "))
}

/// A machine name's pattern as the shell fills it.
pub(super) fn expression(pattern: &str) -> String {
    let mut out = String::new();
    let mut rest = pattern;
    while let Some(start) = rest.find('{') {
        let Some(end) = rest[start..].find('}').map(|end| start + end) else { break };
        out.push_str(&rest[..start]);
        let inside = &rest[start + 1..end];
        match inside.strip_prefix("random") {
            Some(count) => {
                let count = count.strip_prefix(':').unwrap_or("8");
                out.push_str(&format!("{RANDOM}{count})"));
            }
            None => out.push_str(SERIAL),
        }
        rest = &rest[end + 1..];
    }
    out.push_str(rest);
    if pattern.contains("{serial}") { format!("{}{out}{}", FIT.0, FIT.1) } else { out }
}

/// The pattern that [`expression`] was made of.
pub(super) fn pattern(expression: &str) -> String {
    let inside = expression.strip_prefix(FIT.0).and_then(|rest| rest.strip_suffix(FIT.1));
    let mut out = inside.unwrap_or(expression).replace(SERIAL, "{serial}").replace(FORMER_SERIAL, "{serial}");
    while let Some(at) = out.find(RANDOM) {
        let rest = out[at + RANDOM.len()..].to_owned();
        let Some((count, after)) = rest.split_once(')') else { break };
        out = format!("{}{{random:{count}}}{after}", &out[..at]);
    }
    out
}
