//! Values in one another, and what they mean.

#[derive(Debug, Clone)]
pub(in crate::blend) struct Node {
    pub(super) start: usize,
    pub(super) end: usize,
    pub(super) kind: Kind,
}

#[derive(Debug, Clone)]
pub(in crate::blend) enum Kind {
    Object(Vec<Property>),
    Array(Vec<Node>),
    Text(String),
    /// What it means, without its form.
    Other(String),
}

#[derive(Debug, Clone)]
pub(in crate::blend) struct Property {
    pub(super) name: String,
    pub(super) start: usize,
    pub(super) value: Node,
}

impl Node {
    pub(super) fn property(&self, name: &str) -> Option<&Self> {
        match &self.kind {
            Kind::Object(properties) => {
                properties.iter().find(|property| property.name == name).map(|property| &property.value)
            }
            _ => None,
        }
    }

    pub(super) fn elements(&self) -> Option<&[Self]> {
        match &self.kind {
            Kind::Array(elements) => Some(elements),
            _ => None,
        }
    }
}

pub(super) fn is_bare(node: &Node) -> bool {
    match &node.kind {
        Kind::Object(properties) => properties.is_empty(),
        Kind::Array(elements) => elements.is_empty(),
        _ => true,
    }
}

/// All values in a node, each with the names on its way; elements of arrays have none.
pub(super) fn values_in(node: &Node, way: &mut String, values: &mut Vec<(String, String)>) {
    let mut go_into = |name: &str, inner: &Node| {
        let length = way.len();
        way.push_str(name);
        way.push('/');
        values_in(inner, way, values);
        way.truncate(length);
    };
    match &node.kind {
        Kind::Object(properties) => {
            properties
                .iter()
                .for_each(|property| go_into(&super::pointer::escaped(&property.name), &property.value));
        }
        Kind::Array(elements) => elements.iter().for_each(|element| go_into("/", element)),
        Kind::Text(text) => values.push((way.clone(), quoted(text))),
        Kind::Other(meaning) => values.push((way.clone(), meaning.clone())),
    }
}

/// What a number is, digit by digit: `1`, `1.0` and `10e-1` are one, and no two different ones are.
pub(super) fn number_meaning(written: &str) -> String {
    let (sign, digits) = match written.strip_prefix('-') {
        Some(rest) => ("-", rest),
        None => ("", written.strip_prefix('+').unwrap_or(written)),
    };
    let (mantissa, exponent) = digits.split_once(['e', 'E']).unwrap_or((digits, "0"));
    let (whole, fraction) = mantissa.split_once('.').unwrap_or((mantissa, ""));
    let is_plain = [whole, fraction].iter().all(|part| part.bytes().all(|byte| byte.is_ascii_digit()));
    let Some(exponent) = exponent.parse::<i64>().ok().filter(|_| is_plain) else { return written.to_owned() };
    let all = format!("{whole}{fraction}");
    let bare = all.trim_start_matches('0');
    let significant = bare.trim_end_matches('0');
    if significant.is_empty() {
        return "0".to_owned();
    }
    let scale = exponent
        .saturating_sub(fraction.len() as i64)
        .saturating_add((bare.len() - significant.len()) as i64);
    match scale {
        0..40 => format!("{sign}{significant}{}", "0".repeat(usize::try_from(scale).unwrap_or(0))),
        _ => format!("{sign}{significant}e{scale}"),
    }
}

/// Writes a value without its form: no blanks, no comments, numbers as they count.
pub(super) fn mean(node: &Node, out: &mut String) {
    match &node.kind {
        Kind::Text(text) => out.push_str(&quoted(text)),
        Kind::Other(meaning) => out.push_str(meaning),
        Kind::Array(elements) => {
            out.push('[');
            for element in elements {
                mean(element, out);
                out.push(',');
            }
            out.push(']');
        }
        Kind::Object(properties) => {
            let mut properties: Vec<_> = properties.iter().collect();
            properties.sort_by_key(|property| &property.name);
            out.push('{');
            for property in properties {
                out.push_str(&quoted(&property.name));
                out.push(':');
                mean(&property.value, out);
                out.push(',');
            }
            out.push('}');
        }
    }
}

pub(super) fn quoted(text: &str) -> String {
    serde_json::Value::from(text).to_string()
}
