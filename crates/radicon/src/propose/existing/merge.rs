//! Blocks that are one: they are next to each other in a layout, whoever overrides one overrides all of them, and their
//! names have a part in common.

use std::collections::BTreeMap;

use crate::dialect::Kind;
use crate::markup::ConstructId;
use crate::propose::Job;
use crate::propose::assemble::Plan;
use crate::propose::existing::children::{Change, Child};
use crate::propose::existing::overridden::Block;
use crate::resolve::{Resolver, mentions};
use crate::site::Template;
use crate::text::{SourceId, Span, trim_blanks};

/// A shorter word than this is an abbreviation, and tells nobody what a block holds.
const SHORTEST_NAME: usize = 3;

impl Job<'_> {
    /// Plans blocks that become one with their neighbours. Whether there are some.
    pub fn merge(&self, blocks: &[Block<'_>], children: &[Child<'_>], plan: &mut Plan) -> bool {
        // Others of a layout or a child in the next round, with these as they are then.
        let mut done: Vec<bool> = vec![false; children.len()];
        let mut changed: Vec<SourceId> = Vec::new();
        for first in blocks {
            let is_free = !changed.contains(&first.layout) && first.all().all(|at| !done[at]);
            if !is_free || self.keeps_as_it_is(&self.site.get(first.layout).path) {
                continue;
            }
            let run = self.run_from(first, blocks);
            let Some(name) = self.merged_name(&run) else { continue };
            if !run.iter().all(|block| self.is_separate(block)) {
                continue;
            }
            let layout = self.site.get(first.layout);
            let places: Option<Vec<ConstructId>> = run.iter().map(|block| layout.definition(block.name)).collect();
            let Some(places) = places else { continue };
            let span = Span::new(layout.whole(places[0]).start, layout.whole(places[places.len() - 1]).end);
            let mut bytes = layout.source.to_vec();
            // What the layout has between the blocks shows in every page.
            let pairs = places.windows(2).map(|pair| (layout.whole(pair[0]).end, layout.whole(pair[1]).start));
            let gaps: Vec<&[u8]> = pairs.map(|(from, to)| Span::new(from, to).of(&layout.source)).collect();
            bytes.splice(span.range(), merged(layout, &places, &gaps, &name));
            let change = |&at: &usize| {
                let template = children[at].template;
                let places: Vec<ConstructId> = run.iter().filter_map(|block| template.definition(block.name)).collect();
                let mut changes: BTreeMap<&[u8], Change> = run.iter().map(|block| (block.name, Change::Drop)).collect();
                changes.insert(first.name, Change::Become(merged(template, &places, &gaps, &name)));
                (at, changes)
            };
            let changes = first.overriders.iter().map(change).collect();
            if self.change_overrides(layout, bytes, changes, children, plan) {
                first.all().for_each(|at| done[at] = true);
                changed.push(first.layout);
            }
        }
        !changed.is_empty()
    }

    /// A block and those after it that are always overridden with it; alone if there are none.
    fn run_from<'b, 's>(&self, first: &'b Block<'s>, blocks: &'b [Block<'s>]) -> Vec<&'b Block<'s>> {
        let layout = self.site.get(first.layout);
        let place = |block: &Block<'_>| layout.definition(block.name).map(|at| layout.whole(at));
        let mut run = vec![first];
        loop {
            let Some(last) = place(run[run.len() - 1]) else { return run };
            let goes_on = |block: &&Block<'_>| {
                let next = place(block).filter(|next| block.layout == first.layout && next.start >= last.end);
                next.is_some_and(|next| trim_blanks(Span::new(last.end, next.start).of(&layout.source)).is_empty())
                    && block.overriding == first.overriding
            };
            let Some(next) = blocks.iter().find(goes_on) else { return run };
            run.push(next);
            if self.merged_name(&run).is_none() {
                run.pop();
                return run;
            }
        }
    }

    /// Whether all that overrides a block can change with it: nothing else is of its name, or speaks of it.
    fn is_separate(&self, block: &Block<'_>) -> bool {
        let layout = self.site.get(block.layout);
        let Some(at) = layout.definition(block.name) else { return false };
        let is_whole = layout.constructs.items[at].partner.is_some()
            && !layout.constructs.inside(at).iter().any(|item| item.kind.defines());
        let is_plain = |template: &Template| {
            template.constructs.items.iter().all(|item| {
                let speaks = !item.expr.is_empty() && mentions(item.expr.of(&template.source), block.name);
                let shows = item.kind == Kind::Again && item.name.of(&template.source) == block.name;
                !speaks && !shows
            })
        };
        let resolver = Resolver::new(self.site);
        let definitions = resolver.family(block.layout).filter(|template| template.definition(block.name).is_some());
        is_whole
            && block.overriders.len() == block.overriding.len()
            && definitions.count() == block.overriding.len() + 1
            && resolver.family(block.layout).all(is_plain)
    }

    /// The words that the names of several blocks share, if no block around is called so.
    fn merged_name(&self, run: &[&Block<'_>]) -> Option<String> {
        let names: Option<Vec<&str>> = run.iter().map(|block| std::str::from_utf8(block.name).ok()).collect();
        let name = shared_words(&names?)?;
        let taken = self.names_around(run[0].layout);
        let is_own = run.iter().any(|block| block.name == name.as_bytes());
        (is_own || taken.binary_search_by(|known| known.as_str().cmp(name)).is_err()).then(|| name.to_owned())
    }
}

/// The words that several names begin with, or else end with.
fn shared_words<'n>(names: &[&'n str]) -> Option<&'n str> {
    let [first, rest @ ..] = names else { return None };
    if rest.is_empty() {
        return None;
    }
    let is_cut = |byte: u8| matches!(byte, b'_' | b'-' | b'.');
    let cuts = || (1..first.len()).filter(|&at| is_cut(first.as_bytes()[at]));
    let begin = |word: &str| {
        let left = |name: &&str| name.strip_prefix(word).is_some_and(|left| left.bytes().next().is_none_or(is_cut));
        rest.iter().all(left)
    };
    let end = |word: &str| rest.iter().all(|name| name.ends_with(word));
    let start = cuts().chain([first.len()]).map(|at| &first[..at]).rfind(|word| begin(word));
    let last = cuts().map(|at| &first[at..]).find(|word| end(word)).map(|word| &word[1..]);
    let tells = |word: &&str| word.len() >= SHORTEST_NAME;
    start.filter(tells).or(last.filter(tells))
}

/// The tags of the first of several blocks, with another name, around what is in all of them; `gaps` is what the
/// layout shows between them.
fn merged(template: &Template, places: &[ConstructId], gaps: &[&[u8]], name: &str) -> Vec<u8> {
    let (source, items) = (&template.source, &template.constructs.items);
    let renamed = |at: ConstructId, span: Span| {
        let written = items[at].name;
        if written.is_empty() {
            return span.of(source).to_vec();
        }
        let (before, after) = (Span::new(span.start, written.start), Span::new(written.end, span.end));
        [before.of(source), name.as_bytes(), after.of(source)].concat()
    };
    let open = &items[places[0]];
    let mut bytes = renamed(places[0], Span::new(open.span.start, open.reach.end));
    let (mut blanks, mut is_first) = (Vec::new(), true);
    for (&at, gap) in places.iter().zip(gaps.iter().copied().chain([&b""[..]])) {
        let part = template.inner(at);
        let content = part.trimmed(source);
        blanks.extend(Span::new(part.start, content.start).of(source));
        if !content.is_empty() {
            match blanks.iter().rposition(|b| *b == b'\n') {
                // In a line of its own, as it is indented.
                Some(line) => {
                    bytes.push(b'\n');
                    bytes.extend(if is_first { &blanks[line + 1..] } else { template.indentation(content.start) });
                }
                None => bytes.extend(if is_first { &blanks[..] } else { &blanks[..blanks.len().min(1)] }),
            }
            bytes.extend(content.of(source));
            (blanks, is_first) = (Vec::new(), false);
        }
        blanks.extend(Span::new(content.end, part.end).of(source));
        blanks.extend(gap);
    }
    match blanks.iter().rposition(|b| *b == b'\n') {
        Some(line) => bytes.extend([b"\n", &blanks[line + 1..]].concat()),
        None => bytes.extend(blanks),
    }
    let close = open.partner.map(|at| renamed(at, Span::new(items[at].reach.start, items[at].span.end)));
    bytes.extend(close.unwrap_or_default());
    bytes
}

#[cfg(test)]
mod tests {
    use super::shared_words;
    use crate::propose::testing::improved;

    const PANEL: &str = "<html><body>\n  {% block content %}{% endblock %}\n  <aside>\n    {% block panel_head %}\n    {% endblock panel_head %}\n    {% block panel_body %}{% endblock panel_body %}\n  </aside>\n</body></html>\n";

    const BOTH: &str = "{% block panel_head %}\n<h2>@</h2>\n{% endblock panel_head %}\n{% block panel_body %}\n<p>All of @.</p>\n{% endblock panel_body %}\n";

    #[test]
    fn blocks_that_are_always_overridden_together_become_one() {
        let (_, text) = improved(PANEL, &[BOTH; 7]);
        let one = "  <aside>\n    {% block panel %}\n    {% endblock panel %}\n  </aside>";
        assert!(text("base.html").contains(one), "{}", text("base.html"));
        let child = "{% block panel %}\n<h2>Boats</h2>\n<p>All of Boats.</p>\n{% endblock panel %}\n";
        assert!(text("boats.html").ends_with(child), "{}", text("boats.html"));
    }

    #[test]
    fn whitespace_between_them_shows_in_every_page() {
        let notes = "<html><p>{% block note_beginning %}{% endblock %} {% block note_ending %}{% endblock %}</p>{% block content %}{% endblock %}</html>\n";
        let both =
            "{% block note_beginning %}<b>@</b>{% endblock %}\n{% block note_ending %}<i>@ all</i>{% endblock %}\n";
        let (_, text) = improved(notes, &[both; 7]);
        assert!(text("base.html").contains("<p>{% block note %} {% endblock %}</p>"), "{}", text("base.html"));
        let child = "{% block note %}<b>Boats</b> <i>Boats all</i>{% endblock %}\n";
        assert!(text("boats.html").ends_with(child), "{}", text("boats.html"));
    }

    #[test]
    fn blocks_that_are_not_one_stay() {
        let head = "{% block panel_head %}\n<h2>@</h2>\n{% endblock panel_head %}\n";
        let inherits = BOTH.replace("<p>", "{{ super() }}<p>");
        let apart = PANEL.replace("    {% block panel_body", "    <hr>{% block panel_body");
        let taken = PANEL.replace("block content", "block panel");
        let shown = PANEL.replace("<aside>", "<aside {{ self.panel_head() }}>");
        for (base, last) in
            [(PANEL, head), (PANEL, &inherits), (&apart[..], BOTH), (&taken[..], BOTH), (&shown[..], BOTH)]
        {
            let (proposal, _) = improved(base, &[BOTH, BOTH, BOTH, BOTH, BOTH, BOTH, last]);
            assert!(!proposal.files.iter().any(|file| file.path == "base.html"), "{base}: {:?}", proposal.changes);
        }
    }

    #[test]
    fn names_share_words() {
        for (names, shared) in [
            (&["content_top", "content_body"][..], Some("content")),
            (&["content", "content-end", "content.more"], Some("content")),
            (&["page_head_left", "page_head_right"], Some("page_head")),
            (&["sub_title", "page_title"], Some("title")),
            (&["title", "subtitle"], None),
            (&["contents", "content_end"], None),
            (&["a_1", "a_2"], None),
            (&["title", "description"], None),
            (&["content_top"], None),
        ] {
            assert_eq!(shared_words(names), shared, "{names:?}");
        }
    }
}
