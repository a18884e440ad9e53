//! Reads templates into nodes in normal form.
//!
//! Pages say much the same: what is from one tag to the next is mostly
//! known from pages before. Such a piece is known by its bytes, and is neither
//! split into tokens nor labelled again. A template with constructs is read as
//! a whole first.

use rustc_hash::FxHashMap;
use xxhash_rust::xxh3::xxh3_64;

use crate::hash::mix;
use crate::markup::elements::{Content, element};
use crate::markup::{Closes, Document, Lexer, Nest, NodeId, NodeKind, TagName, Token, TokenKind};
use crate::repeats::reading::labels::{Label, Labels};
use crate::text::{SourceId, Span};

/// The nodes of some files, in preorder, and what they are.
#[derive(Default)]
pub(in crate::repeats) struct Stretch {
    /// For each node what it is, among the classes of this stretch.
    pub class: Vec<u32>,
    pub spans: Vec<Span>,
    pub inner: Vec<u32>,
    pub size: Vec<u32>,
    /// For each file the node after its last one.
    pub files: Vec<u32>,
    pub classes: Vec<Class>,
}

/// The facts that nodes of one class have in common.
#[derive(Clone, Copy, Debug)]
pub(in crate::repeats) struct Class {
    /// Hash of its content.
    pub hash: u64,
    /// The first of them.
    pub node: u32,
    /// The beginning of the hash of its label.
    pub label: u32,
    /// A hash of its name; see [`Label`].
    pub tag: u16,
}

/// The text from a tag to the next one.
#[derive(Clone, Copy, Debug)]
struct Piece {
    kind: PieceKind,
    /// Index among the known names.
    name: u32,
    /// Length of the tag in bytes.
    length: u32,
    label: Label,
    /// The text after it, where whitespace does not count.
    text: Option<Label>,
    /// It depends on the folder.
    is_placed: bool,
    /// The place of the last element that began with it.
    last: Option<Place>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum PieceKind {
    Start,
    Void,
    End,
    /// Its meaning depends on the folder.
    Placed,
}

/// The place of an element that is the same wherever its bytes are.
#[derive(Clone, Copy, Debug)]
struct Place {
    /// The first file of its stretch.
    stretch: u32,
    file: SourceId,
    node: u32,
    /// A hash of the folder outside which it may be something else.
    folder: Option<u64>,
}

/// The most pieces that are remembered.
const MOST_PIECES: usize = 1 << 20;

/// Elements of fewer nodes are rather read again than looked for.
const LEAST_NODES: u32 = 3;

/// The memory kept from file to file.
#[derive(Default)]
pub(in crate::repeats) struct Memory {
    pieces: Pieces,
    document: Document,
    tokens: Vec<Token>,
    nest: Nest,
}

/// The pieces that are known, by a hash of their bytes, and of the folder if it matters.
#[derive(Default)]
struct Pieces {
    by_hash: FxHashMap<u64, u32>,
    all: Vec<Piece>,
    by_name: FxHashMap<u64, u32>,
    names: Vec<TagName>,
}

impl Pieces {
    fn forget(&mut self) {
        self.by_hash.clear();
        self.all.clear();
    }

    fn find(&self, hash: u64, folder: u64) -> Option<u32> {
        let index = *self.by_hash.get(&hash)?;
        match self.all[index as usize].kind {
            PieceKind::Placed => self.by_hash.get(&mix(hash, folder)).copied(),
            _ => Some(index),
        }
    }

    fn add(&mut self, hash: u64, piece: Piece) -> u32 {
        let index = self.all.len() as u32;
        self.by_hash.insert(hash, index);
        self.all.push(piece);
        index
    }

    fn name(&mut self, name: TagName) -> u32 {
        *self.by_name.entry(name.hash).or_insert_with(|| {
            self.names.push(name);
            self.names.len() as u32 - 1
        })
    }
}

/// Reads files, one after the other.
pub(in crate::repeats) struct Reader<'a> {
    labels: Labels<'a>,
    first: SourceId,
    stretch: Stretch,
    /// The class of each hash.
    known: FxHashMap<u64, u32>,
    open: Vec<Open>,
}

/// A node whose end is not reached.
struct Open {
    node: u32,
    label: Label,
    /// Hash of its label and of the children so far.
    hash: u64,
    /// The piece it began with, unless it may be something else elsewhere.
    piece: Option<u32>,
    /// It depends on the folder.
    placed: bool,
}

impl<'a> Reader<'a> {
    /// Begins with the template of the labels.
    pub fn new(labels: Labels<'a>) -> Self {
        Self { first: labels.id, labels, stretch: Stretch::default(), known: FxHashMap::default(), open: Vec::new() }
    }

    /// The nodes of all files that were read.
    pub fn finish(self) -> Stretch {
        self.stretch
    }

    /// Reads a file.
    pub fn read(&mut self, id: SourceId, memory: &mut Memory) {
        self.labels.turn_to(id);
        let template = self.labels.template;
        if template.unreadable.is_none() {
            if template.constructs.items.is_empty() {
                self.read_pieces(memory);
            } else {
                memory.document.read_again(&template.source, template.constructs.clone());
                self.read_document(&memory.document);
            }
        }
        self.stretch.files.push(self.stretch.class.len() as u32);
    }

    fn open(&mut self, label: Label, start: u32, inner: u32, piece: Option<u32>, placed: bool) {
        let stretch = &mut self.stretch;
        let node = stretch.class.len() as u32;
        self.open.push(Open { node, label, hash: label.hash, piece, placed });
        stretch.class.push(0);
        stretch.spans.push(Span::new(start, inner));
        stretch.inner.push(inner);
        stretch.size.push(1);
    }

    /// Ends the innermost open node.
    fn close(&mut self, end: u32) {
        let Some(Open { node, label, hash, placed, .. }) = self.open.pop() else { return };
        let stretch = &mut self.stretch;
        let size = stretch.class.len() as u32 - node;
        let class = *self.known.entry(hash).or_insert_with(|| {
            stretch.classes.push(Class { hash, node, label: label.hash as u32, tag: label.tag });
            stretch.classes.len() as u32 - 1
        });
        stretch.class[node as usize] = class;
        stretch.spans[node as usize].end = end;
        stretch.size[node as usize] = size;
        if let Some(outer) = self.open.last_mut() {
            outer.hash = mix(outer.hash, hash);
            outer.placed |= placed;
        }
    }

    /// The piece that the innermost open element began with, and where that
    /// is, if it is worth to be known again.
    fn place(&self) -> Option<(u32, Place)> {
        let open = self.open.last()?;
        let size = self.stretch.class.len() as u32 - open.node;
        let folder = open.placed.then_some(self.labels.folder);
        let place = Place { stretch: self.first.0, file: self.labels.id, node: open.node, folder };
        Some((open.piece.filter(|_| size >= LEAST_NODES)?, place))
    }

    /// Takes a node over, with all that it holds, that is here as it is there.
    fn again(&mut self, place: &Place, start: u32) {
        let stretch = &mut self.stretch;
        let (first, new) = (place.node as usize, stretch.class.len());
        let hash = stretch.classes[stretch.class[first] as usize].hash;
        let shift = start.wrapping_sub(stretch.spans[first].start);
        let nodes = first..first + stretch.size[first] as usize;
        stretch.class.extend_from_within(nodes.clone());
        stretch.size.extend_from_within(nodes.clone());
        stretch.inner.extend_from_within(nodes.clone());
        stretch.spans.extend_from_within(nodes);
        let move_on = |offset: &mut u32| *offset = offset.wrapping_add(shift);
        stretch.inner[new..].iter_mut().for_each(move_on);
        stretch.spans[new..].iter_mut().flat_map(|span| [&mut span.start, &mut span.end]).for_each(move_on);
        if let Some(outer) = self.open.last_mut() {
            outer.hash = mix(outer.hash, hash);
            outer.placed |= place.folder.is_some();
        }
    }

    fn leaf(&mut self, label: Label, span: Span) {
        self.open(label, span.start, span.end, None, false);
        self.close(span.end);
    }

    /// Takes the nodes of a document over.
    fn read_document(&mut self, document: &Document) {
        let source = &self.labels.template.source;
        // The node after each open one, and where that ends.
        let mut ends: Vec<(NodeId, u32)> = Vec::new();
        for (at, node) in NodeId::each(&document.nodes).skip(1) {
            while let Some((_, end)) = ends.pop_if(|(next, _)| *next <= at) {
                self.close(end);
            }
            let span = document.span(at);
            let label = match node.kind {
                NodeKind::Text => {
                    let preserved = element(document.name(source, node.parent)).preserves;
                    self.labels.text(span, preserved)
                }
                NodeKind::Element => Some(self.labels.element(document.tokens_between(node.first, node.inner))),
                NodeKind::Construct | NodeKind::Pair => self.labels.construct_at(document.offset(node.first)),
                _ => Some(self.labels.other(span)),
            };
            if let Some(label) = label {
                self.open(label, span.start, document.offset(node.inner).min(span.end), None, true);
                ends.push((node.next, span.end));
            }
        }
        while let Some((_, end)) = ends.pop() {
            self.close(end);
        }
    }

    /// Reads a source without constructs, by pieces that are known where they are.
    fn read_pieces(&mut self, memory: &mut Memory) {
        let source = &self.labels.template.source[..];
        let length = source.len();
        let Memory { pieces, tokens, nest, .. } = memory;
        if pieces.all.len() > MOST_PIECES {
            pieces.forget();
        }
        let mut lexer = Lexer::new(source, &[], tokens);
        let mut page = Page { reader: self, nest, pieces, difference: None, patience: PATIENCE * length };
        let mut at = lexer.next_markup(0).unwrap_or(length);
        page.text(0, at);
        while at < length {
            let next = lexer.next_markup(at + 1).unwrap_or(length);
            let hash = xxh3_64(&source[at..next]);
            let mut piece = None;
            if !lexer.is_within_foreign() {
                piece = page.pieces.find(hash, page.reader.labels.folder);
            }
            if piece.is_none() {
                lexer.sink.clear();
                lexer.at = at;
                lexer.markup();
                if lexer.at <= next && !lexer.is_within_foreign() {
                    piece = page.learn(hash, lexer.sink, next);
                }
            }
            let end = match piece {
                Some(piece) => page.piece(piece, at, next),
                None => {
                    page.tokens(lexer.sink);
                    lexer.at
                }
            };
            at = next;
            if end != next {
                at = lexer.next_markup(end).unwrap_or(length);
                page.text(end, at);
            }
        }
        page.close_from(0, length as u32);
    }
}

/// A source without constructs that is being read.
struct Page<'p, 'a> {
    reader: &'p mut Reader<'a>,
    nest: &'p mut Nest,
    pieces: &'p mut Pieces,
    /// A file from which this one differs at a place, if it is laid on it so much further.
    difference: Option<(SourceId, u32, u32)>,
    /// How many bytes may still be compared in vain.
    patience: usize,
}

/// How many bytes are compared in vain at most, by the bytes of the page. Nesting
/// without end would have every element compared with all that follows.
const PATIENCE: usize = 8;

impl Page<'_, '_> {
    /// Ends all that is open from a place on.
    fn close_from(&mut self, place: u32, at: u32) {
        (place as usize..self.nest.depth()).for_each(|_| self.reader.close(at));
        self.nest.leave(place);
    }

    fn text(&mut self, start: usize, end: usize) {
        let span = Span::new(start as u32, end as u32);
        let preserved = self.nest.innermost().is_some_and(|name| name.preserves);
        if start < end
            && let Some(label) = self.reader.labels.text(span, preserved)
        {
            self.reader.leaf(label, span);
        }
    }

    /// Takes a piece over that is known, and all of its element if that is
    /// known, too; gives where it ends.
    fn piece(&mut self, index: u32, at: usize, next: usize) -> usize {
        let piece = self.pieces.all[index as usize];
        let name = self.pieces.names[piece.name as usize];
        let tag = Span::new(at as u32, at as u32 + piece.length);
        if piece.kind == PieceKind::End {
            self.end_tag(&name, tag, true);
        } else {
            if let Some(place) = self.nest.implied_end(&name) {
                self.close_from(place, tag.start);
            }
            if let Some(place) = piece.last
                && let Some(end) = self.end_of_same(&place, tag.start)
            {
                self.reader.again(&place, tag.start);
                return end as usize;
            }
            self.reader.open(piece.label, tag.start, tag.end, Some(index), piece.is_placed);
            match piece.kind {
                PieceKind::Void => self.reader.close(tag.end),
                _ => self.nest.enter(&name),
            }
        }
        if self.nest.innermost().is_some_and(|name| name.preserves) {
            self.text(tag.end as usize, next);
        } else if let Some(label) = piece.text {
            self.reader.leaf(label, Span::new(tag.end, next as u32));
        }
        next
    }

    /// The end of the element that begins here, if it is the same as the one at a place.
    fn end_of_same(&mut self, place: &Place, at: u32) -> Option<u32> {
        let Reader { labels, stretch, first, .. } = &self.reader;
        if place.stretch != first.0 || place.folder.is_some_and(|folder| folder != labels.folder) {
            return None;
        }
        let there = stretch.spans[place.node as usize];
        let here = Span::new(at, at.checked_add(there.end - there.start)?);
        let shift = at.wrapping_sub(there.start);
        let is_known = self.difference.is_some_and(|(file, by, offset)| {
            file == place.file && by == shift && here.start <= offset && offset < here.end
        });
        if is_known || self.patience == 0 || here.end as usize > labels.template.source.len() {
            return None;
        }
        let (one, other) = (here.of(&labels.template.source), there.of(labels.source_of(place.file)));
        match difference(one, other) {
            None => Some(here.end),
            Some(offset) => {
                self.difference = Some((place.file, shift, at + offset as u32));
                self.patience = self.patience.saturating_sub(offset);
                None
            }
        }
    }

    /// Closes what an end tag closes, and keeps where it is if it is by `keeps`.
    fn end_tag(&mut self, name: &TagName, span: Span, keeps: bool) {
        let Closes::Place(place) = self.nest.closes(name) else {
            let label = self.reader.labels.other(span);
            self.reader.leaf(label, span);
            // Elsewhere it may close something around what is open here.
            self.reader.open.iter_mut().for_each(|open| open.piece = None);
            return;
        };
        self.close_from(place + 1, span.start);
        // An element that may stay open does not keep from the outside what is in it.
        if keeps
            && self.nest.needs_end(place as usize)
            && let Some((piece, place)) = self.reader.place()
        {
            self.pieces.all[piece as usize].last = Some(place);
        }
        self.reader.close(span.end);
        self.nest.leave(place);
    }

    /// Keeps what tokens are if they are a whole tag that holds no raw text,
    /// with the text up to `next`; gives the piece.
    fn learn(&mut self, hash: u64, tokens: &[Token], next: usize) -> Option<u32> {
        let labels = &mut self.reader.labels;
        let (first, last) = (tokens.first()?, tokens.last()?);
        let name = TagName::of(first.name().of(&labels.template.source));
        let kind = match first.kind {
            TokenKind::EndTag => PieceKind::End,
            TokenKind::StartTag if name.is_void(last.span().len() == 2) => PieceKind::Void,
            TokenKind::StartTag if name.content == Content::Markup => PieceKind::Start,
            _ => return None,
        };
        if last.kind != TokenKind::TagEnd {
            return None;
        }
        let is_end = kind == PieceKind::End;
        let label = if is_end { Label { hash: 0, tag: 0 } } else { labels.element(tokens) };
        let text = labels.text(Span::new(last.end, next as u32), false);
        let is_placed = !is_end && labels.is_placed(tokens);
        let name = self.pieces.name(name);
        let piece = Piece { kind, name, length: last.end - first.start, label, text, is_placed, last: None };
        if is_placed {
            self.pieces.add(hash, Piece { kind: PieceKind::Placed, ..piece });
            return Some(self.pieces.add(mix(hash, labels.folder), piece));
        }
        Some(self.pieces.add(hash, piece))
    }

    /// Takes tokens over as they are.
    fn tokens(&mut self, tokens: &[Token]) {
        let mut rest = tokens;
        while let Some(first) = rest.first() {
            let is_tag = matches!(first.kind, TokenKind::StartTag | TokenKind::EndTag);
            let inside =
                |token: &&Token| matches!(token.kind, TokenKind::Attribute | TokenKind::Gap | TokenKind::TagEnd);
            let length = if is_tag { 1 + rest[1..].iter().take_while(inside).count() } else { 1 };
            let (here, behind) = rest.split_at(length);
            rest = behind;
            let last = here[length - 1];
            let span = Span::new(first.start, last.end);
            match first.kind {
                TokenKind::StartTag | TokenKind::EndTag if last.kind == TokenKind::TagEnd => {
                    let name = TagName::of(first.name().of(&self.reader.labels.template.source));
                    if first.kind == TokenKind::EndTag {
                        self.end_tag(&name, span, false);
                        continue;
                    }
                    if let Some(place) = self.nest.implied_end(&name) {
                        self.close_from(place, span.start);
                    }
                    let label = self.reader.labels.element(here);
                    self.reader.open(label, span.start, span.end, None, true);
                    match name.is_void(last.span().len() == 2) {
                        true => self.reader.close(span.end),
                        false => self.nest.enter(&name),
                    }
                }
                TokenKind::Text | TokenKind::Raw | TokenKind::Escapable | TokenKind::CData => {
                    self.text(span.start as usize, span.end as usize);
                }
                _ => {
                    let label = self.reader.labels.other(span);
                    self.reader.leaf(label, span);
                }
            }
        }
    }
}

/// The first place where two texts of one length differ.
fn difference(one: &[u8], other: &[u8]) -> Option<usize> {
    const STEP: usize = 64;
    let mut at = 0;
    for (a, b) in one.chunks(STEP).zip(other.chunks(STEP)) {
        if a != b {
            return Some(at + a.iter().zip(b).take_while(|(a, b)| a == b).count());
        }
        at += STEP;
    }
    None
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::dialect::builtin;
    use crate::repeats::Normalise;
    use crate::repeats::reading::urls::Urls;
    use crate::site::{Settings, Site, SourceFile};

    /// Pieces of pages: whole elements, halves, and text that is hardly markup.
    const PARTS: [&str; 46] = [
        "<div class=a>\n",
        "</div>\n",
        "<p>",
        "</p>",
        "<ul>",
        "</ul>",
        "<li>",
        "<table><tr><td>",
        "</table>",
        "<td>",
        "<b>",
        "</b>",
        "<pre>",
        "</pre>",
        "<span>x</span>",
        "<a href='b.html'>",
        "<a href=\"../b.html\">",
        "</a>",
        "<br>",
        "<path/>",
        "<svg><style><b></style>",
        "<svg/>",
        "</svg>",
        "<title>a <b> &amp; c</title>",
        "<script>'</b>'</script>",
        "<script>",
        "<textarea> x\n</textarea>",
        "<!-- <b> -->",
        "<?x>",
        "</>",
        "</3>",
        "a < b ",
        "  words   and &amp; more\n",
        "\n  ",
        "</",
        "<i title='<b>'>",
        "</i>",
        "<dl><dt>a<dd>b</dl>",
        "<section><h2>t</h2><p>one<p>two</section>\n",
        "<div><span>x</span> <i>y</i></div>",
        "<div><a href='b.html'>x</a><i>y</i></div>",
        "<div><p>a</p></b><i>y</i></div>",
        "<dt>",
        "<li><dt>a</dt><i>y</i></li>",
        "<nav><ul><li>a<li>b</ul></nav>",
        "<nav><pre> a\n  b</pre><br><i>c</i></nav>",
    ];

    /// The nodes that a reader found: for each the hash of its class, and its place.
    fn found(stretch: &Stretch) -> Vec<(u64, Span, u32, u32)> {
        let class = |node: usize| stretch.classes[stretch.class[node] as usize].hash;
        let of_node = |node: usize| (class(node), stretch.spans[node], stretch.inner[node], stretch.size[node]);
        (0..stretch.class.len()).map(of_node).collect()
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn pieces_that_are_known_give_the_same_nodes(
            pages in prop::collection::vec(prop::collection::vec(0..PARTS.len(), 0..30), 1..8),
        ) {
            let file = |(number, parts): (usize, &Vec<usize>)| {
                let folder = ["", "x/", "x/y/"][number % 3];
                let text: String = parts.iter().map(|&part| PARTS[part]).collect();
                SourceFile::new(format!("{folder}{number}.html"), text)
            };
            let files = pages.iter().enumerate().map(file).collect();
            let site = Site::read(files, builtin(), &Settings::default());
            let normalise = Normalise::default();
            let urls = Urls::collect(&site);
            let reader = || Reader::new(Labels::new(&site, &normalise, &urls, SourceId(0)));
            let (mut by_pieces, mut by_document) = (reader(), reader());
            let mut memory = Memory::default();
            for id in site.ids() {
                by_document.labels.turn_to(id);
                let template = by_document.labels.template;
                prop_assume!(template.constructs.items.is_empty());
                by_pieces.read(id, &mut memory);
                memory.document.read_again(&template.source, template.constructs.clone());
                by_document.read_document(&memory.document);
            }
            prop_assert_eq!(found(&by_pieces.finish()), found(&by_document.finish()));
        }
    }
}
