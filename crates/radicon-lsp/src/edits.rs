//! Changes of templates as edits of the editor, and the code actions that offer them.

use std::collections::BTreeMap;

use lsp_types::{
    CodeAction, CodeActionKind, CodeActionOrCommand, CreateFile, DeleteFile, Diagnostic, DocumentChangeOperation,
    DocumentChanges, OneOf, OptionalVersionedTextDocumentIdentifier, Position, Range, ResourceOp, TextDocumentEdit,
    TextEdit, Uri, WorkspaceEdit,
};
use radicon::check::{Finding, Fix};
use radicon::navigate::Navigator;
use radicon::steps::{self, Extraction, StepError};
use radicon::text::{SourceId, Span};
use radicon::{Change, Site, Step};
use serde_json::{Value, json};

use crate::project::Project;

fn text_edits(uri: Uri, edits: Vec<TextEdit>) -> TextDocumentEdit {
    let text_document = OptionalVersionedTextDocumentIdentifier { uri, version: None };
    TextDocumentEdit { text_document, edits: edits.into_iter().map(OneOf::Left).collect() }
}

/// The edit that makes a fix.
fn of_fix(project: &Project, fix: &Fix) -> Option<WorkspaceEdit> {
    let mut files: BTreeMap<&str, Vec<TextEdit>> = BTreeMap::new();
    for edit in &fix.edits {
        let source = &project.site().get(project.site().find(&edit.file)?).source;
        let new = String::from_utf8(edit.text.clone()).ok()?;
        files.entry(&edit.file).or_default().push(TextEdit::new(project.range(source, edit.span), new));
    }
    let edits = files.into_iter().map(|(path, edits)| Some(text_edits(project.uri(path)?, edits)));
    let changes = DocumentChanges::Edits(edits.collect::<Option<_>>()?);
    Some(WorkspaceEdit { document_changes: Some(changes), ..WorkspaceEdit::default() })
}

/// The edit that makes the changes of a step.
pub fn of_changes(project: &Project, changes: &[Change]) -> Option<WorkspaceEdit> {
    // What goes goes last: its content is elsewhere by then.
    let (mut operations, mut deletions) = (Vec::new(), Vec::new());
    for change in changes {
        let uri = project.uri(&change.path)?;
        let Some(new) = &change.new else {
            let delete = DeleteFile { uri, options: None };
            deletions.push(DocumentChangeOperation::Op(ResourceOp::Delete(delete)));
            continue;
        };
        let old = change.old.as_deref().unwrap_or_default();
        if change.old.is_none() {
            let create = CreateFile { uri: uri.clone(), options: None, annotation_id: None };
            operations.push(DocumentChangeOperation::Op(ResourceOp::Create(create)));
        }
        let (span, text) = differing(old, new)?;
        let edit = TextEdit::new(project.range(old, span), text);
        operations.push(DocumentChangeOperation::Edit(text_edits(uri, vec![edit])));
    }
    operations.extend(deletions);
    let changes = DocumentChanges::Operations(operations);
    Some(WorkspaceEdit { document_changes: Some(changes), ..WorkspaceEdit::default() })
}

/// The bytes of a text that differ from another one, and what is there instead. `None` if that is not UTF-8.
fn differing(old: &[u8], new: &[u8]) -> Option<(Span, String)> {
    let (old_text, new_text) = (std::str::from_utf8(old).ok()?, std::str::from_utf8(new).ok()?);
    let mut head = old.iter().zip(new).take_while(|(a, b)| a == b).count();
    while !old_text.is_char_boundary(head) || !new_text.is_char_boundary(head) {
        head -= 1;
    }
    let most = old.len().min(new.len()) - head;
    let mut tail = old.iter().rev().zip(new.iter().rev()).take(most).take_while(|(a, b)| a == b).count();
    while !old_text.is_char_boundary(old.len() - tail) || !new_text.is_char_boundary(new.len() - tail) {
        tail -= 1;
    }
    Some((Span::from_range(head..old.len() - tail), new_text[head..new.len() - tail].to_owned()))
}

/// The fixes of findings in a range, and the refactorings there. A refactoring is computed once it is chosen.
pub fn actions(
    project: &Project,
    uri: &Uri,
    range: Range,
    findings: &[(Diagnostic, Finding)],
) -> Vec<CodeActionOrCommand> {
    let touches = |other: &Range| other.start <= range.end && range.start <= other.end;
    let mut found: Vec<CodeAction> = Vec::new();
    for (diagnostic, finding) in findings.iter().filter(|(diagnostic, _)| touches(&diagnostic.range)) {
        let Some(fix) = &finding.fix else { continue };
        found.push(CodeAction {
            title: fix.message.clone(),
            kind: Some(CodeActionKind::QUICKFIX),
            diagnostics: Some(vec![diagnostic.clone()]),
            edit: of_fix(project, fix),
            is_preferred: Some(true),
            ..CodeAction::default()
        });
    }
    let Some(id) = project.template(uri) else { return offered(found) };
    let source = &project.site().get(id).source;
    let span = Span::new(project.offset(source, range.start), project.offset(source, range.end));
    let mut offer = |title: String, kind: CodeActionKind, data: Value| {
        found.push(CodeAction { title, kind: Some(kind), data: Some(data), ..CodeAction::default() });
    };
    let data =
        |step: &str| json!({ "step": step, "file": project.site().get(id).path, "start": span.start, "end": span.end });
    if !span.is_empty() {
        offer("Extract a partial".into(), CodeActionKind::REFACTOR_EXTRACT, data("extract"));
        offer("Extract a partial from all copies".into(), CodeActionKind::REFACTOR_EXTRACT, data("extract-all"));
        offer("Make a block".into(), CodeActionKind::REFACTOR_EXTRACT, data("open"));
    }
    let navigator = Navigator::new(project.site());
    if let Some(tag) = navigator.tag_at(id, span.start) {
        if let Some(name) =
            navigator.block_of(id, tag).filter(|_| project.site().get(id).constructs.items[tag].kind.defines())
        {
            let name = String::from_utf8_lossy(name);
            offer(format!("Pull `{name}` up into this layout"), CodeActionKind::REFACTOR_REWRITE, data("pull-up"));
            offer(format!("Push `{name}` down into the children"), CodeActionKind::REFACTOR_REWRITE, data("push-down"));
            offer("Put the blocks into the layout's order".into(), CodeActionKind::REFACTOR_REWRITE, data("reorder"));
        }
        if let Some(file) = navigator.file_of(id, tag) {
            let path = &project.site().get(file).path;
            offer(format!("Inline {path} everywhere"), CodeActionKind::REFACTOR_INLINE, data("inline"));
        }
    }
    offered(found)
}

fn offered(actions: Vec<CodeAction>) -> Vec<CodeActionOrCommand> {
    actions.into_iter().map(CodeActionOrCommand::CodeAction).collect()
}

/// A step with its proof's assumptions, which somebody should read before taking it over.
pub type Made<T> = Result<(T, Option<String>), String>;

/// The edit of a step.
fn made(project: &Project, step: Result<Step, StepError>) -> Made<WorkspaceEdit> {
    let step = step.map_err(|error| error.to_string())?;
    let assumed: Vec<&str> = step.proof.assumptions.iter().map(|one| one.text.as_str()).collect();
    let told = format!("{}: assumes that this was inferred correctly: {}", step.title, assumed.join(", "));
    let mut changes = step.changes;
    changes.extend(project.settings_with(&step.renamed)?);
    let edit = of_changes(project, &changes).ok_or("the files are not UTF-8")?;
    Ok((edit, (!assumed.is_empty()).then_some(told)))
}

/// A chosen action with its edit; an error says why it cannot be made.
pub fn resolve(project: &Project, mut action: CodeAction) -> Made<CodeAction> {
    let Some(data) = action.data.clone() else { return Ok((action, None)) };
    let (edit, told) = made(project, step(project.site(), &data).ok_or("the template has changed")?)?;
    action.edit = Some(edit);
    Ok((action, told))
}

fn step(site: &Site, data: &Value) -> Option<Result<Step, StepError>> {
    let id = site.find(data["file"].as_str()?)?;
    let number = |key: &str| Some(data[key].as_u64()? as u32);
    let span = Span::new(number("start")?, number("end")?);
    let template = site.get(id);
    let navigator = Navigator::new(site);
    let block = || {
        let tag = navigator.tag_at(id, span.start)?;
        Some(String::from_utf8_lossy(navigator.block_of(id, tag)?).into_owned())
    };
    let span_of_markup = span.trimmed(&template.source);
    let word = steps::name_for(site, id, span_of_markup);
    let extract = |all: bool| {
        let name = free_name(site, &word);
        steps::extract(site, id, span_of_markup, &Extraction { name, all, values: Vec::new() })
    };
    Some(match data["step"].as_str()? {
        "extract" => extract(false),
        "extract-all" => extract(true),
        "open" => steps::open(site, id, span_of_markup, &free_block(site, id, &word.replace('-', "_"))),
        "pull-up" => steps::pull_up(site, id, &block()?),
        "push-down" => steps::push_down(site, id, &block()?),
        "reorder" => steps::reorder(site, &[id]),
        "inline" => steps::inline(site, navigator.file_of(id, navigator.tag_at(id, span.start)?)?),
        _ => return None,
    })
}

/// A name that no template has yet.
fn free_name(site: &Site, word: &str) -> String {
    let stem = |path: &str| path.rsplit('/').next().and_then(|file| file.split('.').next()).map(str::to_owned);
    let is_free = |name: &String| site.templates.iter().all(|template| stem(&template.path).as_ref() != Some(name));
    let numbered = (2..).map(|number| format!("{word}-{number}"));
    std::iter::once(word.to_owned()).chain(numbered).find(is_free).unwrap_or_else(|| word.to_owned())
}

/// A name that no block of a template's chain has yet.
fn free_block(site: &Site, id: SourceId, word: &str) -> String {
    let navigator = Navigator::new(site);
    let is_free = |name: &String| navigator.definitions_of(id, name.as_bytes()).is_empty();
    let numbered = (2..).map(|number| format!("{word}_{number}"));
    std::iter::once(word.to_owned()).chain(numbered).find(is_free).unwrap_or_else(|| word.to_owned())
}

/// The edit that renames the block at a position, or the layout or partial that is named there.
pub fn rename(project: &Project, uri: &Uri, position: Position, new: &str) -> Made<WorkspaceEdit> {
    let id = project.template(uri).ok_or("no template of the site")?;
    let source = &project.site().get(id).source;
    let navigator = Navigator::new(project.site());
    let tag = navigator.tag_at(id, project.offset(source, position)).ok_or("no tag here")?;
    let site = project.site();
    let step = match (navigator.file_of(id, tag), navigator.block_of(id, tag)) {
        (Some(file), _) => {
            let template = site.get(id);
            let item = &template.constructs.items[tag];
            let separator = &template.dialect.targets_of(item.kind).separator;
            let written = item.target.text(&template.source);
            steps::relocate(site, file, &new_path(&site.get(file).path, &written, new, separator))
        }
        (None, Some(name)) => steps::rename(site, id, &String::from_utf8_lossy(name), new),
        (None, None) => return Err("no block or file is named here".into()),
    };
    made(project, step)
}

/// The path of a file that is to be written in another way: what is written now shows where its names start, and how
/// they end.
fn new_path(path: &str, written: &str, new: &str, separator: &str) -> String {
    let as_path = |name: &str| match separator {
        "" | "/" => name.trim_start_matches('/').to_owned(),
        separator => name.replace(separator, "/"),
    };
    let (written, new) = (as_path(written), as_path(new));
    match path.rfind(&written).filter(|_| !written.is_empty()) {
        Some(at) => format!("{}{new}{}", &path[..at], &path[at + written.len()..]),
        // From where it is named, as `../nav.html`.
        None => {
            let folder = path.rfind('/').map_or("", |slash| &path[..=slash]);
            format!("{folder}{}", new.rsplit('/').next().unwrap_or(&new))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_new_name_is_written_as_the_old_one_was() {
        for (path, written, new, separator, expected) in [
            ("site/parts/nav.html", "parts/nav.html", "parts/menu.html", "/", "site/parts/menu.html"),
            ("site/parts/nav.html", "parts.nav", "bits.menu", ".", "site/bits/menu.html"),
            ("parts/nav.html", "/parts/nav.html", "/bits/nav.html", "/", "bits/nav.html"),
            ("parts/nav.html", "nav", "menu", "", "parts/menu.html"),
            ("parts/nav.html", "../parts/nav.html", "../parts/menu.html", "/", "parts/menu.html"),
        ] {
            assert_eq!(new_path(path, written, new, separator), expected, "{written}");
        }
    }

    #[test]
    fn only_what_differs_is_edited() {
        for (old, new, expected) in [
            ("abc", "axc", (1, 2, "x")),
            ("aa", "aaa", (2, 2, "a")),
            ("é1", "è1", (0, 2, "è")),
            ("", "x", (0, 0, "x")),
            ("x", "x", (1, 1, "")),
        ] {
            let (span, text) = differing(old.as_bytes(), new.as_bytes()).expect("UTF-8");
            assert_eq!((span.start, span.end, text.as_str()), expected, "{old} {new}");
        }
        assert!(differing(b"\xff", b"x").is_none());
    }
}
