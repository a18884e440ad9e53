//! Names for the parameters of partials.

use super::{attribute, first_word, name, slug, tag, unique};
use crate::propose::pages::page::Page;
use crate::propose::skeleton::hole::{Context, Hole};

/// Names for the parameters of a partial, from where they are printed; where a word
/// does for several, values are called by all that is around them.
pub fn of_parameters(pages: &[Page], holes: &[&Hole]) -> Vec<String> {
    let words: Vec<String> = holes.iter().map(|hole| of_parameter(pages, hole)).collect();
    let mut taken = Vec::new();
    let called = |(hole, word): (&&Hole, &String)| {
        let is_alone = words.iter().filter(|other| *other == word).count() == 1;
        let is_value = matches!(hole.context, Context::Value { .. });
        unique(if is_alone || !is_value { word.clone() } else { name(pages, hole) }, &mut taken)
    };
    holes.iter().zip(&words).map(called).collect()
}

/// A word for a parameter of a partial.
fn of_parameter(pages: &[Page], hole: &Hole) -> String {
    let page = hole.first_page(pages);
    let parent = match hole.context {
        Context::Content { parent } => parent,
        Context::Text { node } => page.document.nodes[node].parent,
        Context::Value { node, token } => {
            let attribute = page.document.tokens[token].name().of(&page.source);
            return match (tag(page, node).as_str(), &attribute.to_ascii_lowercase()[..]) {
                ("a", b"href") => "link".into(),
                ("img", b"src") => "image".into(),
                _ => name(pages, hole),
            };
        }
        Context::Attributes { .. } => return name(pages, hole),
    };
    match tag(page, parent).as_str() {
        "h1" | "h2" | "h3" | "h4" | "h5" | "h6" => "heading".into(),
        "title" | "caption" | "label" | "legend" | "summary" | "time" => tag(page, parent),
        _ => slug(&attribute(page, parent, "class").map_or_else(|| "text".into(), |class| first_word(&class))),
    }
}

#[cfg(test)]
mod tests {
    use super::of_parameters;
    use crate::propose::skeleton::hole::holes;
    use crate::propose::testing::{pages, unifier};

    #[test]
    fn parameters_are_called_by_where_they_are_printed() {
        let card =
            |name: &str| format!("<h3>{name}</h3><p class=\"price\">{name} fare</p><a href=\"/{name}.html\">Book</a>");
        let pages = pages(&[card("Gull"), card("Tern"), card("Skua")]);
        let unified = unifier(&pages, 2).pages(&[0, 1, 2]);
        assert_eq!(of_parameters(&pages, &holes(&unified.pieces)), ["heading", "price", "link"]);
    }
}
