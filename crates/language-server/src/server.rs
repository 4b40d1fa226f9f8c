//! The conversation with the editor.

use std::collections::HashSet;
use std::sync::{Arc, Mutex};
use std::thread::JoinHandle;

use bibliotax_app::environment::Environment;
use crossbeam_channel::{Receiver, Sender, unbounded};
use lsp_server::{Connection, ErrorCode, Message, Notification, ProtocolError, Request, RequestId, Response};
use lsp_types::{
    CodeActionKind, CodeActionOptions, CodeActionProviderCapability, CompletionItem, CompletionOptions,
    CompletionParams, CompletionResponse, DidChangeTextDocumentParams, DidChangeWatchedFilesParams,
    DidChangeWatchedFilesRegistrationOptions, DidCloseTextDocumentParams, DidOpenTextDocumentParams,
    DidSaveTextDocumentParams, DocumentLinkOptions, DocumentSymbolResponse, ExecuteCommandOptions,
    FileSystemWatcher, GlobPattern, GotoDefinitionResponse, HoverProviderCapability, InitializeParams,
    InitializeResult, OneOf, PositionEncodingKind, PublishDiagnosticsParams, Registration,
    RegistrationParams, RenameOptions, ServerCapabilities, ServerInfo, TextDocumentSyncCapability,
    TextDocumentSyncKind, TextDocumentSyncOptions, TextDocumentSyncSaveOptions, WorkDoneProgressOptions,
};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::background::Background;
use crate::commands::{COMMANDS, Work};
use crate::documents::{Document, path_of};
use crate::guard::locked;
use crate::navigation::matters;
use crate::positions::Encoding;
use crate::shared::{Client, Shared};
use crate::{actions, completion, hints, hover, navigation, rename};

/// How many questions are answered at once.
const MAX_CONCURRENT_ANSWERS: usize = 2;

/// How a conversation ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum End {
    /// The editor asked to shut down and to exit.
    Shutdown,
    /// It asked to exit without a shutdown before, which the protocol calls an error.
    ExitOnly,
    /// It closed the input.
    Closed,
}

/// Talks with an editor until it exits or closes the input.
pub fn serve(connection: &Connection, environment: Environment, version: &str) -> Result<End, ProtocolError> {
    let (id, params) = connection.initialize_start()?;
    let params: InitializeParams = serde_json::from_value(params).unwrap_or_default();
    let client = client_of(&params);
    let result = InitializeResult {
        capabilities: capabilities(client.encoding),
        server_info: Some(ServerInfo { name: "bibliotax".to_owned(), version: Some(version.to_owned()) }),
    };
    connection.initialize_finish(id, serde_json::to_value(result).unwrap_or_default())?;
    let shared = Arc::new(Shared::new(client, environment, connection.sender.clone()));
    if client.watches_files {
        watch_files(&shared);
    }
    let end = Server::new(Arc::clone(&shared)).run(connection);
    shared.stop_run();
    Ok(end)
}

/// What a client says that it can.
fn client_of(params: &InitializeParams) -> Client {
    let capabilities = &params.capabilities;
    let general = capabilities.general.as_ref();
    let encodings: Option<&[PositionEncodingKind]> =
        general.and_then(|general| general.position_encodings.as_deref());
    let workspace = capabilities.workspace.as_ref();
    let hints = workspace.and_then(|workspace| workspace.inlay_hint.as_ref()?.refresh_support);
    let watched =
        workspace.and_then(|workspace| workspace.did_change_watched_files.as_ref()?.dynamic_registration);
    let progress = capabilities.window.as_ref().and_then(|window| window.work_done_progress);
    Client {
        encoding: Encoding::chosen(encodings),
        refreshes_hints: hints.unwrap_or_default(),
        shows_progress: progress.unwrap_or_default(),
        watches_files: watched.unwrap_or_default(),
    }
}

/// What this server can.
fn capabilities(encoding: Encoding) -> ServerCapabilities {
    let letters = ["\"", "'", "[", "=", " ", ".", "-", "/"];
    ServerCapabilities {
        position_encoding: Some(encoding.kind()),
        text_document_sync: Some(TextDocumentSyncCapability::Options(TextDocumentSyncOptions {
            open_close: Some(true),
            change: Some(TextDocumentSyncKind::INCREMENTAL),
            save: Some(TextDocumentSyncSaveOptions::Supported(true)),
            ..TextDocumentSyncOptions::default()
        })),
        completion_provider: Some(CompletionOptions {
            trigger_characters: Some(letters.map(str::to_owned).to_vec()),
            resolve_provider: Some(true),
            ..CompletionOptions::default()
        }),
        hover_provider: Some(HoverProviderCapability::Simple(true)),
        inlay_hint_provider: Some(OneOf::Left(true)),
        code_action_provider: Some(CodeActionProviderCapability::Options(CodeActionOptions {
            code_action_kinds: Some(vec![CodeActionKind::QUICKFIX, CodeActionKind::REFACTOR_REWRITE]),
            ..CodeActionOptions::default()
        })),
        definition_provider: Some(OneOf::Left(true)),
        document_link_provider: Some(DocumentLinkOptions {
            resolve_provider: Some(false),
            work_done_progress_options: WorkDoneProgressOptions::default(),
        }),
        document_symbol_provider: Some(OneOf::Left(true)),
        rename_provider: Some(OneOf::Right(RenameOptions {
            prepare_provider: Some(true),
            work_done_progress_options: WorkDoneProgressOptions::default(),
        })),
        execute_command_provider: Some(ExecuteCommandOptions {
            commands: COMMANDS.map(str::to_owned).to_vec(),
            work_done_progress_options: WorkDoneProgressOptions::default(),
        }),
        ..ServerCapabilities::default()
    }
}

/// Asks the client to report changes of manifests and locks outside of the editor.
fn watch_files(shared: &Shared) {
    let watcher = |name: &str| FileSystemWatcher {
        glob_pattern: GlobPattern::String(format!("**/{name}")),
        kind: None,
    };
    let names = [bibliotax_core::manifest::FILE_NAME, bibliotax_core::lock::FILE_NAME];
    let options = DidChangeWatchedFilesRegistrationOptions { watchers: names.map(watcher).to_vec() };
    let registration = Registration {
        id: "bibliotax-files".to_owned(),
        method: "workspace/didChangeWatchedFiles".to_owned(),
        register_options: serde_json::to_value(options).ok(),
    };
    shared.ask("client/registerCapability", RegistrationParams { registrations: vec![registration] });
}

struct Server {
    shared: Arc<Shared>,
    background: Background,
    questions: Sender<Request>,
    /// The questions that still wait for an answer, without those that were cancelled.
    pending: Arc<Mutex<HashSet<RequestId>>>,
    works: i32,
    /// The threads whose answers are still wanted when the editor closes its output.
    at_work: Vec<JoinHandle<()>>,
    is_shut_down: bool,
}

impl Server {
    fn new(shared: Arc<Shared>) -> Self {
        let background = Background::start(&shared);
        let (questions, asked) = unbounded();
        let pending = Arc::default();
        let answerers = (0..MAX_CONCURRENT_ANSWERS).map(|_| {
            let (shared, asked, pending) = (Arc::clone(&shared), asked.clone(), Arc::clone(&pending));
            std::thread::spawn(move || answer_all(&shared, &asked, &pending))
        });
        let at_work = answerers.collect();
        Self { shared, background, questions, pending, works: 0, at_work, is_shut_down: false }
    }

    /// Talks until the end, by when all questions are answered and all commands done. What runs in the background isn't waited for.
    fn run(mut self, connection: &Connection) -> End {
        let end = self.converse(connection);
        let Self { questions, at_work, .. } = self;
        drop(questions);
        // One that panicked has nothing to say any more.
        at_work.into_iter().for_each(|thread| drop(thread.join()));
        end
    }

    fn converse(&mut self, connection: &Connection) -> End {
        for message in &connection.receiver {
            match message {
                Message::Request(request) => self.handle_request(request),
                Message::Notification(notification) if notification.method == "exit" => {
                    return if self.is_shut_down { End::Shutdown } else { End::ExitOnly };
                }
                Message::Notification(notification) => self.handle_notification(notification),
                // Answers of the client change nothing.
                Message::Response(_) => {}
            }
        }
        End::Closed
    }

    fn handle_request(&mut self, request: Request) {
        if self.is_shut_down {
            let why = "the server is shutting down".to_owned();
            self.shared.send(Response::new_err(request.id, ErrorCode::InvalidRequest as i32, why));
        } else if request.method == "shutdown" {
            self.is_shut_down = true;
            self.shared.send(Response::new_ok(request.id, Value::Null));
        } else if request.method == "workspace/executeCommand" {
            self.execute(request);
        } else {
            locked(&self.pending).insert(request.id.clone());
            // The threads that take them live as long as this.
            let _ = self.questions.send(request);
        }
    }

    fn execute(&mut self, request: Request) {
        let Request { id, params, .. } = request;
        let command = params.get("command").and_then(Value::as_str).unwrap_or_default();
        let arguments = params.get("arguments").and_then(Value::as_array).cloned().unwrap_or_default();
        match Work::of(command, &arguments) {
            Ok(work) => {
                self.works += 1;
                let (shared, number) = (Arc::clone(&self.shared), self.works);
                self.at_work.push(std::thread::spawn(move || {
                    work.run(&shared, number);
                    shared.send(Response::new_ok(id, Value::Null));
                }));
            }
            Err(why) => self.shared.send(Response::new_err(id, ErrorCode::InvalidParams as i32, why)),
        }
    }

    fn handle_notification(&mut self, notification: Notification) {
        let Notification { method, params } = notification;
        match method.as_str() {
            "textDocument/didOpen" => self.with(params, Self::opened),
            "textDocument/didChange" => self.with(params, Self::changed),
            "textDocument/didClose" => self.with(params, Self::closed),
            "textDocument/didSave" => {
                self.with(params, |server, _: DidSaveTextDocumentParams| server.background.changed());
            }
            "workspace/didChangeWatchedFiles" => {
                self.with(params, |server, params| server.changed_outside(&params));
            }
            "$/cancelRequest" => self.cancel(&params),
            _ => {}
        }
    }

    /// Does something with what a notification says, if that can be read.
    fn with<P: DeserializeOwned>(&mut self, params: Value, act: impl FnOnce(&mut Self, P)) {
        if let Ok(params) = serde_json::from_value(params) {
            act(self, params);
        }
    }

    fn opened(&mut self, params: DidOpenTextDocumentParams) {
        let opened = params.text_document;
        let document = Document::new(opened.uri, opened.version, opened.text, self.shared.client.encoding);
        if let Some(document) = document {
            self.shared.documents().put(document);
            self.background.changed();
        }
    }

    fn changed(&mut self, params: DidChangeTextDocumentParams) {
        let named = params.text_document;
        let Some(before) = self.shared.document(&named.uri) else { return };
        let changed = before.changed(named.version, &params.content_changes, self.shared.client.encoding);
        self.shared.documents().put(changed);
        self.background.changed();
    }

    fn closed(&mut self, params: DidCloseTextDocumentParams) {
        let uri = params.text_document.uri;
        self.shared.documents().close(&uri);
        let nothing = PublishDiagnosticsParams { uri, diagnostics: Vec::new(), version: None };
        self.shared.notify("textDocument/publishDiagnostics", nothing);
        self.background.changed();
    }

    fn changed_outside(&mut self, params: &DidChangeWatchedFilesParams) {
        let mut paths = params.changes.iter().filter_map(|change| path_of(&change.uri));
        if paths.any(|path| matters(&path)) {
            self.background.changed();
        }
    }

    fn cancel(&mut self, params: &Value) {
        let id: Option<RequestId> = params.get("id").and_then(|id| RequestId::deserialize(id).ok());
        if let Some(id) = id {
            locked(&self.pending).remove(&id);
        }
    }
}

/// Answers questions until nobody asks any more.
fn answer_all(shared: &Shared, asked: &Receiver<Request>, pending: &Mutex<HashSet<RequestId>>) {
    for request in asked {
        let is_wanted = locked(pending).remove(&request.id);
        let answer = if is_wanted {
            answer(request, shared)
        } else {
            Response::new_err(request.id, ErrorCode::RequestCanceled as i32, "cancelled".to_owned())
        };
        shared.send(answer);
    }
}

/// The answer to a question.
fn answer(request: Request, shared: &Shared) -> Response {
    let Request { id, method, params } = request;
    let answered = match method.as_str() {
        "textDocument/completion" => about(params, shared, |document, params: CompletionParams| {
            CompletionResponse::List(completion::complete(
                document,
                params.text_document_position.position,
                shared,
            ))
        }),
        "completionItem/resolve" => {
            read(params).map(|item: CompletionItem| value(completion::resolved(item, shared)))
        }
        "textDocument/hover" => about(params, shared, |document, params: lsp_types::HoverParams| {
            hover::hover(document, params.text_document_position_params.position, shared)
        }),
        "textDocument/inlayHint" => about(params, shared, |document, params: lsp_types::InlayHintParams| {
            hints::hints(document, params.range, shared)
        }),
        "textDocument/codeAction" => {
            about(params, shared, |document, params: lsp_types::CodeActionParams| {
                actions::actions(document, params.range, shared)
            })
        }
        "textDocument/definition" => {
            about(params, shared, |document, params: lsp_types::GotoDefinitionParams| {
                let found =
                    navigation::definition(document, params.text_document_position_params.position, shared);
                found.map(GotoDefinitionResponse::Scalar)
            })
        }
        "textDocument/documentLink" => about(params, shared, |document, _: lsp_types::DocumentLinkParams| {
            navigation::links(document, shared)
        }),
        "textDocument/documentSymbol" => {
            about(params, shared, |document, _: lsp_types::DocumentSymbolParams| {
                DocumentSymbolResponse::Nested(navigation::symbols(document))
            })
        }
        "textDocument/prepareRename" => {
            about(params, shared, |document, params: lsp_types::TextDocumentPositionParams| {
                rename::prepare(document, params.position)
            })
        }
        "textDocument/rename" => return renamed(id, params, shared),
        _ => {
            let message = format!("`{method}` isn't supported");
            return Response::new_err(id, ErrorCode::MethodNotFound as i32, message);
        }
    };
    match answered {
        Ok(result) => Response::new_ok(id, result),
        Err(why) => Response::new_err(id, ErrorCode::InvalidParams as i32, why),
    }
}

fn renamed(id: RequestId, params: Value, shared: &Shared) -> Response {
    let asked: Result<lsp_types::RenameParams, String> = read(params);
    let answered = asked.and_then(|asked| {
        let position = asked.text_document_position;
        match shared.document(&position.text_document.uri) {
            Some(document) => rename::rename(&document, position.position, &asked.new_name, shared),
            None => Ok(None),
        }
    });
    match answered {
        Ok(edit) => Response::new_ok(id, edit),
        Err(why) => Response::new_err(id, ErrorCode::InvalidParams as i32, why),
    }
}

/// What is answered about a document that is open; nothing about any other.
fn about<P: DeserializeOwned, R: Serialize>(
    params: Value,
    shared: &Shared,
    answer: impl FnOnce(&Document, P) -> R,
) -> Result<Value, String> {
    let named = params.pointer("/textDocument/uri").and_then(Value::as_str).and_then(|uri| uri.parse().ok());
    let params: P = read(params)?;
    let document = named.and_then(|uri| shared.document(&uri));
    Ok(document.map_or(Value::Null, |document| value(answer(&document, params))))
}

fn read<P: DeserializeOwned>(params: Value) -> Result<P, String> {
    serde_json::from_value(params).map_err(|error| error.to_string())
}

fn value(result: impl Serialize) -> Value {
    // Types of the protocol: nothing in them can fail to be JSON.
    serde_json::to_value(result).unwrap_or_default()
}
