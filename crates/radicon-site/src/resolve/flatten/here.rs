//! What is shown where a reader is.

use super::{Flattener, Frame};
use crate::markup::ConstructId;
use crate::text::SourceId;

impl Flattener<'_> {
    /// Writes the first part of a `here` in the page that it means, else the second.
    pub(super) fn here(&mut self, source: SourceId, at: ConstructId, frame: &Frame) {
        let template = self.site.get(source);
        let [first, second] = template.parts_of(at);
        let is_here = self.including.first().is_some_and(|&page| self.site.is_here((source, at), page));
        let (span, first) = if is_here { first } else { second };
        self.content(source, span, first, frame);
    }
}

#[cfg(test)]
mod tests {
    use crate::dialect::builtin;
    use crate::resolve::Resolver;
    use crate::site::{Settings, Site, SourceFile};

    #[test]
    fn a_menu_shows_where_one_is() {
        let item = "<li><!--: here ../seeds/ --><b>Seeds</b><!--: elsewhere --><a href=\"../seeds/\">Seeds</a><!--: end here --></li>";
        let link = "<a href=\"../seeds/pea.html\"<!--: here --> class=\"on\"<!--: end here -->>Peas</a>";
        let block = "<!--: here ../index.html --><!--: block first -->1<!--: end first --><!--: end -->";
        let base = format!("{item}{link}{block}<!--: partial parts/foot.html -->");
        let foot = "<!--: here ../index.html -->home<!--: elsewhere --><!--: end here -->";
        let files = [("layouts/base.html", base.as_str()), ("parts/foot.html", foot)];
        for (page, text, expected) in [
            (
                "index.html",
                "<!--: layout layouts/base.html --><!--: block first -->2<!--: end first -->",
                "<li><a href=\"seeds/\">Seeds</a></li><a href=\"seeds/pea.html\">Peas</a>2home",
            ),
            (
                "seeds/pea.html",
                "<!--: layout layouts/base.html -->",
                "<li><b>Seeds</b></li><a href=\"pea.html\" class=\"on\">Peas</a>",
            ),
        ] {
            let files: Vec<(&str, &str)> = files.iter().copied().chain([(page, text)]).collect();
            let files = files.into_iter().map(|(path, text)| SourceFile::new(path, text)).collect();
            let site = Site::read(files, builtin(), &Settings::default());
            let flat = Resolver::new(&site).flatten(site.find(page).expect("a page")).expect("a page of a sane size");
            assert_eq!((String::from_utf8_lossy(&flat.bytes).as_ref(), flat.problems.len()), (expected, 0), "{page}");
        }
    }
}
