//! The conversation with the editor.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::time::Duration;

use anyhow::{Context, Result};
use lsp_server::{Connection, ErrorCode, Message, Notification, Request, RequestId, Response};
use lsp_types::{
    CodeAction, CodeActionKind, CodeActionOptions, CodeActionParams, CodeActionProviderCapability, CodeLensOptions,
    CodeLensParams, CompletionOptions, Diagnostic, DidChangeTextDocumentParams, DidCloseTextDocumentParams,
    DidOpenTextDocumentParams, DocumentLinkOptions, DocumentLinkParams, DocumentSymbolParams, FoldingRangeParams,
    InitializeParams, OneOf, Position, PositionEncodingKind, PublishDiagnosticsParams, RenameOptions, RenameParams,
    ServerCapabilities, TextDocumentPositionParams, TextDocumentSyncCapability, TextDocumentSyncKind, Uri,
    WorkspaceSymbolParams,
};
use radicon::check::{Checks, Finding, RULES};
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::{Value, json};

use crate::answers::{Answers, diagnostic, workspace_symbols};
use crate::edits;
use crate::project::Project;
use crate::transport::Cancelled;

/// Notifications that come within so long are answered together.
const TOGETHER: Duration = Duration::from_millis(10);

/// Serves an editor; gives whether it asked for an end before it left.
pub fn run(connection: &Connection, cancelled: &Cancelled) -> Result<bool> {
    let Some((id, parameters)) = initialized(connection)? else { return Ok(false) };
    let offered = parameters.capabilities.general.as_ref().and_then(|general| general.position_encodings.as_ref());
    let is_utf8 = offered.is_some_and(|kinds| kinds.contains(&PositionEncodingKind::UTF8));
    let info = json!({
        "capabilities": capabilities(is_utf8),
        "serverInfo": { "name": "radicon", "version": env!("CARGO_PKG_VERSION") },
    });
    connection.sender.send(Message::Response(Response::new_ok(id, info)))?;
    let project = Project::open(&folder(&parameters)?, is_utf8)?;
    // Copies are compared in all files, which takes longer than an editor waits.
    let rules: Vec<_> = RULES.iter().filter(|rule| rule.id != "drift").copied().collect();
    let mut server = Server {
        connection,
        cancelled,
        project,
        checks: Checks::new(&rules),
        findings: BTreeMap::new(),
        is_stale: false,
        disk_changed: false,
        is_unchecked: true,
    };
    server.publish()?;
    server.serve()
}

/// Waits for the request that begins a session; `None` if the editor leaves before.
fn initialized(connection: &Connection) -> Result<Option<(RequestId, InitializeParams)>> {
    for message in &connection.receiver {
        let request = match message {
            Message::Request(request) => request,
            Message::Notification(note) if note.method == "exit" => return Ok(None),
            _ => continue,
        };
        let (code, why) = match request.method.as_str() {
            "initialize" => match serde_json::from_value(request.params) {
                Ok(parameters) => return Ok(Some((request.id, parameters))),
                Err(error) => (ErrorCode::InvalidParams, error.to_string()),
            },
            _ => (ErrorCode::ServerNotInitialized, "the session has not begun".to_owned()),
        };
        connection.sender.send(Message::Response(Response::new_err(request.id, code as i32, why)))?;
    }
    Ok(None)
}

/// The folder that the editor has open.
fn folder(parameters: &InitializeParams) -> Result<PathBuf> {
    let first = parameters.workspace_folders.as_ref().and_then(|folders| folders.first());
    #[allow(deprecated, reason = "what older editors send")]
    let uri = first.map(|folder| &folder.uri).or(parameters.root_uri.as_ref());
    match uri.and_then(|uri| uri.as_str().strip_prefix("file://")) {
        Some(path) => Ok(PathBuf::from(radicon::text::percent_decoded(path))),
        None => std::env::current_dir().context("the current directory cannot be read"),
    }
}

fn capabilities(is_utf8: bool) -> ServerCapabilities {
    let kinds = [
        CodeActionKind::QUICKFIX,
        CodeActionKind::REFACTOR_EXTRACT,
        CodeActionKind::REFACTOR_INLINE,
        CodeActionKind::REFACTOR_REWRITE,
    ];
    let actions = CodeActionOptions {
        code_action_kinds: Some(kinds.to_vec()),
        resolve_provider: Some(true),
        ..CodeActionOptions::default()
    };
    let encoding = if is_utf8 { PositionEncodingKind::UTF8 } else { PositionEncodingKind::UTF16 };
    let triggers = [" ", "\"", "'"].map(str::to_owned).to_vec();
    ServerCapabilities {
        position_encoding: Some(encoding),
        text_document_sync: Some(TextDocumentSyncCapability::Kind(TextDocumentSyncKind::FULL)),
        definition_provider: Some(OneOf::Left(true)),
        declaration_provider: Some(lsp_types::DeclarationCapability::Simple(true)),
        references_provider: Some(OneOf::Left(true)),
        hover_provider: Some(lsp_types::HoverProviderCapability::Simple(true)),
        document_symbol_provider: Some(OneOf::Left(true)),
        workspace_symbol_provider: Some(OneOf::Left(true)),
        completion_provider: Some(CompletionOptions {
            trigger_characters: Some(triggers),
            ..CompletionOptions::default()
        }),
        folding_range_provider: Some(lsp_types::FoldingRangeProviderCapability::Simple(true)),
        document_link_provider: Some(DocumentLinkOptions {
            resolve_provider: None,
            work_done_progress_options: Default::default(),
        }),
        code_lens_provider: Some(CodeLensOptions { resolve_provider: Some(false) }),
        code_action_provider: Some(CodeActionProviderCapability::Options(actions)),
        rename_provider: Some(OneOf::Right(RenameOptions {
            prepare_provider: Some(true),
            work_done_progress_options: Default::default(),
        })),
        ..ServerCapabilities::default()
    }
}

struct Server<'c> {
    connection: &'c Connection,
    cancelled: &'c Cancelled,
    project: Project,
    checks: Checks,
    /// The diagnostics published last, by path, each with the finding that it was made from.
    findings: BTreeMap<String, Vec<(Diagnostic, Finding)>>,
    /// Something has changed since the site was read.
    is_stale: bool,
    /// It was on the disk.
    disk_changed: bool,
    /// Something has changed since the site was checked.
    is_unchecked: bool,
}

/// Why a request is not answered.
struct Refusal(ErrorCode, String);

impl Server<'_> {
    fn serve(&mut self) -> Result<bool> {
        let mut is_down = false;
        loop {
            let message = match self.is_unchecked {
                true => match self.connection.receiver.recv_timeout(TOGETHER) {
                    Ok(message) => message,
                    Err(error) if error.is_timeout() => {
                        self.publish()?;
                        continue;
                    }
                    Err(_) => return Ok(true),
                },
                false => match self.connection.receiver.recv() {
                    Ok(message) => message,
                    Err(_) => return Ok(true),
                },
            };
            match message {
                Message::Request(request) => {
                    let id = request.id.clone();
                    let answer = if self.cancelled.take(&id) {
                        Err(Refusal(ErrorCode::RequestCanceled, "cancelled".into()))
                    } else if request.method == "shutdown" {
                        is_down = true;
                        Ok(Value::Null)
                    } else if is_down {
                        Err(Refusal(ErrorCode::InvalidRequest, "the session has ended".into()))
                    } else {
                        self.refresh()?;
                        self.answer(request)
                    };
                    self.reply(id, answer)?;
                }
                Message::Notification(notification) if notification.method == "exit" => return Ok(is_down),
                Message::Notification(notification) => self.note(notification),
                Message::Response(_) => {}
            }
        }
    }

    fn reply(&self, id: RequestId, answer: Result<Value, Refusal>) -> Result<()> {
        let response = match answer {
            Ok(value) => Response::new_ok(id, value),
            Err(Refusal(code, why)) => Response::new_err(id, code as i32, why),
        };
        Ok(self.connection.sender.send(Message::Response(response))?)
    }

    /// Reads what has changed, if anything has. What is still to be checked is published later.
    fn refresh(&mut self) -> Result<()> {
        if !self.is_stale {
            return Ok(());
        }
        let disk = std::mem::take(&mut self.disk_changed);
        self.is_stale = false;
        match self.project.refresh(disk) {
            Ok(()) => Ok(()),
            Err(error) => self.tell(&error.to_string()),
        }
    }

    /// Shows a message in the editor.
    fn tell(&self, text: &str) -> Result<()> {
        let parameters = json!({ "type": 2, "message": text });
        let notification = Notification::new("window/showMessage".to_owned(), parameters);
        Ok(self.connection.sender.send(Message::Notification(notification))?)
    }

    /// Checks the site, and publishes what has changed since the last time.
    fn publish(&mut self) -> Result<()> {
        self.refresh()?;
        self.is_unchecked = false;
        let checked = self.checks.check(self.project.site());
        let mut found: BTreeMap<String, Vec<(Diagnostic, Finding)>> = BTreeMap::new();
        for finding in checked.findings {
            let Some(diagnostic) = diagnostic(&self.project, &finding) else { continue };
            found.entry(finding.file.clone()).or_default().push((diagnostic, finding));
        }
        let shown = |list: Option<&Vec<(Diagnostic, Finding)>>| -> Vec<Diagnostic> {
            list.into_iter().flatten().map(|(diagnostic, _)| diagnostic.clone()).collect()
        };
        let mut paths: Vec<&String> = found.keys().chain(self.findings.keys()).collect();
        paths.sort_unstable();
        paths.dedup();
        for path in paths {
            let diagnostics = shown(found.get(path));
            if diagnostics == shown(self.findings.get(path)) {
                continue;
            }
            let Some(uri) = self.project.uri(path) else { continue };
            let parameters = PublishDiagnosticsParams { uri, diagnostics, version: None };
            let notification = Notification::new("textDocument/publishDiagnostics".to_owned(), parameters);
            self.connection.sender.send(Message::Notification(notification))?;
        }
        self.findings = found;
        Ok(())
    }

    fn note(&mut self, notification: Notification) {
        let Notification { method, params } = notification;
        match method.as_str() {
            "textDocument/didOpen" => {
                if let Ok(opened) = serde_json::from_value::<DidOpenTextDocumentParams>(params) {
                    self.project.show(&opened.text_document.uri, Some(opened.text_document.text));
                }
            }
            "textDocument/didChange" => {
                if let Ok(changed) = serde_json::from_value::<DidChangeTextDocumentParams>(params)
                    && let Some(last) = changed.content_changes.into_iter().last()
                {
                    self.project.show(&changed.text_document.uri, Some(last.text));
                }
            }
            "textDocument/didClose" => {
                if let Ok(closed) = serde_json::from_value::<DidCloseTextDocumentParams>(params) {
                    self.project.show(&closed.text_document.uri, None);
                }
            }
            "textDocument/didSave" | "workspace/didChangeWatchedFiles" => self.disk_changed = true,
            _ => return,
        }
        (self.is_stale, self.is_unchecked) = (true, true);
    }

    fn answer(&mut self, request: Request) -> Result<Value, Refusal> {
        let Request { method, params, .. } = request;
        match method.as_str() {
            "textDocument/definition" | "textDocument/declaration" => {
                self.at(params, |answers, position| answers.definition(position))
            }
            "textDocument/references" => self.at(params, |answers, position| answers.references(position)),
            "textDocument/hover" => self.at(params, |answers, position| answers.hover(position)),
            "textDocument/documentSymbol" => {
                let wanted: DocumentSymbolParams = read(params)?;
                self.about(&wanted.text_document.uri, |answers| answers.symbols())
            }
            "workspace/symbol" => {
                let wanted: WorkspaceSymbolParams = read(params)?;
                written(workspace_symbols(&self.project, &wanted.query))
            }
            "textDocument/completion" => self.at(params, |answers, position| answers.completion(position)),
            "textDocument/foldingRange" => {
                let wanted: FoldingRangeParams = read(params)?;
                self.about(&wanted.text_document.uri, |answers| answers.folds())
            }
            "textDocument/documentLink" => {
                let wanted: DocumentLinkParams = read(params)?;
                self.about(&wanted.text_document.uri, |answers| answers.links())
            }
            "textDocument/codeLens" => {
                let wanted: CodeLensParams = read(params)?;
                self.about(&wanted.text_document.uri, |answers| answers.lenses())
            }
            "textDocument/codeAction" => {
                let wanted: CodeActionParams = read(params)?;
                // What the text as it is now gives.
                if self.is_unchecked {
                    self.publish().map_err(|error| Refusal(ErrorCode::InternalError, error.to_string()))?;
                }
                let uri = &wanted.text_document.uri;
                let findings = self.project.path(uri).and_then(|path| self.findings.get(&path));
                written(edits::actions(&self.project, uri, wanted.range, findings.map_or(&[], Vec::as_slice)))
            }
            "codeAction/resolve" => {
                let action: CodeAction = read(params)?;
                self.made(edits::resolve(&self.project, action))
            }
            "textDocument/prepareRename" => self.at(params, |answers, position| answers.renamed(position)),
            "textDocument/rename" => {
                let wanted: RenameParams = read(params)?;
                let at = wanted.text_document_position;
                self.made(edits::rename(&self.project, &at.text_document.uri, at.position, &wanted.new_name))
            }
            _ => Err(Refusal(ErrorCode::MethodNotFound, format!("`{method}` is not supported"))),
        }
    }

    /// A refactoring, once what its proof assumes is shown.
    fn made<T: Serialize>(&self, made: edits::Made<T>) -> Result<Value, Refusal> {
        let (edit, assumed) = made.map_err(refused)?;
        if let Some(text) = assumed {
            self.tell(&text).map_err(|error| Refusal(ErrorCode::InternalError, error.to_string()))?;
        }
        written(edit)
    }

    /// An answer about a place in a template.
    fn at<T: Serialize>(&self, params: Value, ask: impl FnOnce(&Answers<'_>, Position) -> T) -> Result<Value, Refusal> {
        let at: TextDocumentPositionParams = read(params)?;
        self.about(&at.text_document.uri, |answers| ask(answers, at.position))
    }

    /// An answer about a template; null for a file that is none.
    fn about<T: Serialize>(&self, uri: &Uri, ask: impl FnOnce(&Answers<'_>) -> T) -> Result<Value, Refusal> {
        match Answers::new(&self.project, uri) {
            Some(answers) => written(ask(&answers)),
            None => Ok(Value::Null),
        }
    }
}

fn read<T: DeserializeOwned>(parameters: Value) -> Result<T, Refusal> {
    serde_json::from_value(parameters).map_err(|error| Refusal(ErrorCode::InvalidParams, error.to_string()))
}

fn written(value: impl Serialize) -> Result<Value, Refusal> {
    serde_json::to_value(value).map_err(|error| Refusal(ErrorCode::InternalError, error.to_string()))
}

/// A refactoring that cannot be made here, with the reason.
fn refused(why: String) -> Refusal {
    Refusal(ErrorCode::RequestFailed, why)
}
