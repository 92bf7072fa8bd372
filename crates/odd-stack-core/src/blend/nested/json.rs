//! JSON (RFC 8259) as games write it, with comments and trailing commas.

use std::collections::HashSet;

use jsonc_parser::ast::Value;
use jsonc_parser::{CollectOptions, ParseOptions, parse_to_ast};

use super::super::keyed::{MOST_NESTED, line_of};
use super::notation::{Comments, Notation, Outline};
use super::value::{Kind, Node, Property, number_meaning, quoted};

/// How JSON is read and written.
#[derive(Debug, Clone, Copy)]
pub(in crate::blend) struct JsonNotation;

impl Notation for JsonNotation {
    const COMMENTS: Comments = Comments { line: "//", open: "/*", close: "*/" };
    const ARRAY: [char; 2] = ['[', ']'];
    const SEPARATORS: &'static [char] = &[','];

    fn read(text: &str) -> Result<Outline, String> {
        refuse_deep(text)?;
        let options = ParseOptions { allow_missing_commas: false, ..ParseOptions::default() };
        let parsed = parse_to_ast(text, &CollectOptions::default(), &options).map_err(|error| {
            format!("line {}, column {}: {}", error.line_display(), error.column_display(), error.kind())
        })?;
        let value = parsed.value.ok_or("it is empty")?;
        if !matches!(value, Value::Object(_) | Value::Array(_)) {
            return Err("it has no keys: it is neither an object nor an array".to_owned());
        }
        Ok(Outline { root: node(text, &value)?, is_list_of_statements: false })
    }

    fn named(name: &str) -> String {
        format!("{}: ", quoted(name))
    }

    fn typed(text: &str, over: Option<&Kind>) -> String {
        if matches!(over, Some(Kind::Text(_))) {
            let is_quoted = serde_json::from_str::<String>(text).is_ok();
            return if is_quoted { text.to_owned() } else { quoted(text) };
        }
        if serde_json::from_str::<serde_json::Value>(text).is_ok() { text.to_owned() } else { quoted(text) }
    }
}

/// Refuses what is nested too deep, before anything goes down into it.
fn refuse_deep(text: &str) -> Result<(), String> {
    let (mut depth, mut quote, mut is_escaped) = (0usize, None, false);
    for c in text.chars() {
        match (quote, c) {
            (Some(_), _) if is_escaped => is_escaped = false,
            (Some(_), '\\') => is_escaped = true,
            (Some(open), c) if open == c => quote = None,
            (Some(_), '\n') => quote = None,
            (Some(_), _) => {}
            (None, '"' | '\'') => quote = Some(c),
            (None, '{' | '[') => depth += 1,
            (None, '}' | ']') => depth = depth.saturating_sub(1),
            _ => {}
        }
        if depth > MOST_NESTED {
            return Err(format!("it is nested more than {MOST_NESTED} deep"));
        }
    }
    Ok(())
}

fn node(text: &str, value: &Value<'_>) -> Result<Node, String> {
    let range = jsonc_parser::common::Ranged::range(value);
    let kind = match value {
        Value::Object(object) => {
            let mut properties: Vec<Property> = Vec::with_capacity(object.properties.len());
            let mut seen = HashSet::new();
            for property in &object.properties {
                let name = property.name.as_str().to_owned();
                if !seen.insert(name.clone()) {
                    let line = line_of(text, property.range.start);
                    return Err(format!("line {line}: the key `{name}` stands there twice"));
                }
                let value = node(text, &property.value)?;
                properties.push(Property { name, start: property.range.start, value });
            }
            Kind::Object(properties)
        }
        Value::Array(array) => {
            Kind::Array(array.elements.iter().map(|element| node(text, element)).collect::<Result<_, _>>()?)
        }
        Value::StringLit(string) => Kind::Text(string.value.clone().into_owned()),
        Value::NumberLit(number) => Kind::Other(number_meaning(number.value)),
        Value::BooleanLit(boolean) => Kind::Other(boolean.value.to_string()),
        Value::NullKeyword(_) => Kind::Other("null".to_owned()),
    };
    Ok(Node { start: range.start, end: range.end, kind })
}
