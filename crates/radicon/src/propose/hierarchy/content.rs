//! The main content's block is `content` for pages of every kind.
//!
//! Where a section's layout puts something around the content of its pages, the block of the layout around it that it
//! fills is a wider one: that is called `main`, and holds `content` where nobody fills it.

use super::layout::{Body, Layout, Open};
use crate::propose::naming::{MAIN, may_be_main};
use crate::propose::pages::page::Page;
use crate::propose::skeleton::hole::{DefaultContent, Hole, Piece, each_hole, holes};

/// What the wider block is called, the best first.
const WIDER: [&str; 3] = ["main", "page", "body"];

/// Gives the block of the main content its name at every level of a base layout.
pub fn name_apart(pages: &[Page], base: &mut Layout) {
    let Body::Base(pieces) = &mut base.body else { return };
    let taken: Vec<String> = base.open.iter().map(|open| open.hole.name.clone()).collect();
    let is_plain = |hole: &Hole| !hole.is_named && !matches!(hole.default, DefaultContent::Pieces(_));
    let Some(at) = base.open.iter().position(|open| open.hole.name == MAIN && open.own && is_plain(&open.hole)) else {
        return;
    };
    let Some(name) = WIDER.iter().find(|name| !taken.iter().any(|taken| taken == *name)) else { return };
    if !base.inner.iter().any(is_around_content) {
        return;
    }
    base.inner.iter_mut().for_each(|inner| rename(pages, inner, name));
    let wrapped = |hole: &Hole| {
        let mut outer = hole.clone();
        outer.variants.iter_mut().for_each(|variant| variant.follows = true);
        outer.name = (*name).to_owned();
        outer.default = DefaultContent::Pieces(vec![Piece::Hole(Box::new(hole.clone()))]);
        outer
    };
    let mut is_wrapped = false;
    each_hole(pieces, &mut |hole| {
        if hole.name == MAIN && is_plain(hole) && !hole.again && !is_wrapped {
            is_wrapped = true;
            *hole = wrapped(hole);
        }
    });
    // The wider one comes before the one in it.
    let outer = wrapped(&base.open[at].hole);
    base.open.iter_mut().for_each(|open| open.outer = open.outer.map(|outer| outer + usize::from(outer >= at)));
    let around = base.open[at].outer;
    base.open[at].outer = Some(at);
    base.open.insert(at, Open { hole: outer, outer: around, own: true, default: true, shown: Vec::new() });
}

/// Whether a section fills the block of the main content with something around a block of its own.
fn is_around_content(section: &Layout) -> bool {
    let Body::Section(overrides) = &section.body else { return false };
    let fills = overrides.iter().find(|filled| filled.name == MAIN);
    fills.is_some_and(|filled| !holes(&filled.pieces).is_empty())
        || fills.is_none() && section.inner.iter().any(is_around_content)
}

/// Lets a section fill the wider block, where it has a block for the content in it, which gets the name.
fn rename(pages: &[Page], section: &mut Layout, wider: &str) {
    let Body::Section(overrides) = &mut section.body else { return };
    let Some(filled) = overrides.iter_mut().find(|filled| filled.name == MAIN) else {
        section.inner.iter_mut().for_each(|inner| rename(pages, inner, wider));
        return;
    };
    let own = holes(&filled.pieces);
    let bytes = |hole: &Hole| -> usize { hole.variants.iter().map(|variant| variant.content.len()).sum() };
    let may_be: Vec<&&Hole> = own.iter().filter(|hole| may_be_main(pages, hole)).collect();
    let Some(inner) = may_be.into_iter().max_by_key(|hole| bytes(hole)).map(|hole| hole.name.clone()) else { return };
    wider.clone_into(&mut filled.name);
    widen(section, wider);
    give_name(section, &inner);
}

/// Pages that override all of the main content override the wider block.
fn widen(layout: &mut Layout, wider: &str) {
    for open in layout.open.iter_mut().filter(|open| !open.own && open.hole.name == MAIN) {
        wider.clone_into(&mut open.hole.name);
    }
    layout.inner.iter_mut().for_each(|inner| widen(inner, wider));
}

/// Calls a block of a section `content`, in the section and in all that extend it.
fn give_name(layout: &mut Layout, name: &str) {
    let change = |hole: &mut Hole| {
        if hole.name == name {
            MAIN.clone_into(&mut hole.name);
        }
    };
    if let Body::Section(overrides) = &mut layout.body {
        for filled in overrides {
            if filled.name == name {
                MAIN.clone_into(&mut filled.name);
            }
            each_hole(&mut filled.pieces, &mut |hole| change(hole));
        }
    }
    layout.open.iter_mut().for_each(|open| change(&mut open.hole));
    layout.inner.iter_mut().for_each(|inner| give_name(inner, name));
}
