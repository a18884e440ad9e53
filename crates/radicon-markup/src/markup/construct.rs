//! One piece of template syntax, as it was read.

use crate::dialect::{Dialect, Form, Kind, Part, TagForm, Values};
use crate::id;
use crate::text::{Span, is_blank};

id!(
    /// The number of a construct within its source.
    pub ConstructId: Construct
);

/// One piece of template syntax.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Construct {
    /// All of the tag, delimiters included; of a comment pair everything.
    pub span: Span,
    /// Its effect.
    pub kind: Kind,
    /// Which tag of its form it is.
    pub part: Part,
    /// The target's name, without quotes; empty if there is none.
    pub target: Span,
    /// The block's or value's name; empty if there is none.
    pub name: Span,
    /// The content of a region that is written in one line; empty if there is none.
    pub value: Span,
    /// The expression, the arguments or the text; empty if there are none.
    pub expr: Span,
    /// The target or the short content is an expression.
    pub dynamic: bool,
    /// For an opener the closer, for a closer or branch the opener; none for a single tag, and for one that lacks its
    /// other half.
    pub partner: Option<ConstructId>,
    /// Whitespace around the tag that goes with it: trim marks and line ends.
    pub reach: Span,
    /// Its trim marks, at the opening and the closing delimiter; empty where there is none.
    pub marks: [Span; 2],
    /// Whether it is inside a longer tag.
    pub inside: Inside,
    /// Which of the dialect's forms it is.
    pub form: u16,
    /// Which of the dialect's tags it was read as, or [`NO_TAG`].
    pub(crate) tag: u16,
}

/// The part of a longer tag that a construct is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Inside {
    /// It is a tag of its own.
    Nothing,
    /// One of several statements; the tag has these delimiters.
    Statement {
        /// The opening delimiter, with its marks.
        open: Span,
        /// The closing one.
        close: Span,
    },
    /// A part of an expression, which cannot be taken out of it.
    Expression,
}

/// No tag of the dialect: a bracket that closes by balance, or what an attribute stands for.
const NO_TAG: u16 = u16::MAX;

impl Construct {
    /// Whether its bytes are hidden from HTML. What an attribute stands for is not.
    pub fn is_opaque(&self) -> bool {
        !self.span.is_empty() && self.part != Part::Attribute
    }

    /// Its form in the dialect that it was read in.
    pub fn form<'d>(&self, dialect: &'d Dialect) -> &'d Form {
        &dialect.forms[self.form as usize]
    }

    /// The tag of the dialect that it was read as; none for what is read without a tag of its own.
    pub fn tag_form<'d>(&self, dialect: &'d Dialect) -> Option<&'d TagForm> {
        dialect.tags.get(self.tag as usize)
    }

    /// Its opening delimiter and first word: what tells one tag from another.
    pub fn first_word(&self, source: &[u8], dialect: &Dialect) -> String {
        let lead = self.tag_form(dialect).map_or(&[][..], |tag| tag.pattern.lead());
        let text = self.expr.of(source);
        let word = text.iter().position(|&b| !(b.is_ascii_alphanumeric() || b >= 0x80 || b"_-.:/".contains(&b)));
        let word = String::from_utf8_lossy(&text[..word.unwrap_or(text.len())]).into_owned();
        format!("{} {word}", String::from_utf8_lossy(lead))
    }

    /// Writes the tag anew from what was read: the same but for whitespace,
    /// the choice of quotes, and trim marks.
    pub fn write(&self, source: &[u8], dialect: &Dialect) -> String {
        let text = self.span.of(source);
        let blanks = text.iter().take_while(|&&b| is_blank(b)).count();
        let pattern = match self.part {
            Part::Attribute => Some(&self.form(dialect).open),
            _ => dialect.tags.get(self.tag as usize).map(|tag| &tag.pattern),
        };
        let from = self.span.start as usize + blanks;
        let read = pattern.and_then(|pattern| Some((pattern, pattern.read(source, from, &dialect.marks)?)));
        let Some((pattern, (end, captures))) = read else { return String::from_utf8_lossy(text).into_owned() };
        let texts = [captures.target, captures.name, captures.value, captures.expr, captures.after];
        let [target, name, value, expr, after] = &texts.map(|span| span.text(source));
        let written = pattern.write(&Values { target, name, value, expr, after });
        // Of a comment pair everything after the opener.
        let rest = Span::new(end as u32, self.span.end.max(end as u32)).text(source);
        format!("{}{written}{rest}", String::from_utf8_lossy(&text[..blanks]))
    }
}

/// A construct of which only the place is known.
pub(super) fn bare(span: Span) -> Construct {
    Construct {
        span,
        kind: Kind::Other,
        part: Part::Single,
        target: Span::default(),
        name: Span::default(),
        value: Span::default(),
        expr: Span::default(),
        dynamic: false,
        partner: None,
        reach: span,
        marks: [Span::default(); 2],
        inside: Inside::Nothing,
        form: 0,
        tag: NO_TAG,
    }
}
