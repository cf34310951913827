//! `depot`: media and updates with an index.

use super::{answer, refuse_existing};
use crate::{
    args::{DepotAction, DepotArgs, DepotKind, DepotWhere, OfferArgs},
    config::Config,
    context::Context,
    show,
};
use neat_answer::{Offer, Offered};
use neat_content::{Content, DigestKind, Error, IfThere, PendingFile, Result, commit_together, digest_of};
use neat_depot::{Beside, Depot, FetchOptions, INDEX_NAME, ItemKind, Reference, Search, Server};
use neat_stack::{DepotPlaces, DepotState, DepotUse, StackFile, index_folder, resolve_depot};
use std::{
    path::{Path, PathBuf},
    sync::Arc,
    time::Duration,
};

/// Where a depot is when nobody says so: where `depot serve` offers one.
const USUAL: &str = "http://127.0.0.1:8470";

/// Where answers are given out.
const ANSWERS: &str = "answers/";

/// Answers a request for answers.
fn offered(path: &Path, args: &OfferArgs, context: &Context) -> Result<Beside> {
    let model = answer::model_of(path, context)?;
    let list = args.sites.as_deref().map(answer::site_list).transpose()?;
    let mut secrets = answer::secrets(path, &answer::ask_secret);
    let offer = Offer::new(&model, &mut secrets, list, &args.accept.topics(), args.secrets)
        .map_err(|error| error.within(path.display()))?;
    Ok(Arc::new(move |path, from| match offer.get(path.strip_prefix(ANSWERS)?, from) {
        Offered::Nothing => None,
        Offered::File(bytes) => Some((200, bytes)),
        Offered::Refused(why) => Some((403, format!("{why}\n").into_bytes())),
    }))
}

pub(crate) fn run(args: &DepotArgs, context: &Context) -> Result<()> {
    match &args.action {
        DepotAction::Index { folder, title } => index(folder, title.as_deref(), context),
        DepotAction::Key { name } => key(name, context),
        DepotAction::Sign { paths, key } => sign(paths, key, context),
        DepotAction::Serve { folder, port, address, answers } => {
            let mut server = Server::bind(folder, *address, *port)?;
            if let Some(path) = &answers.answers {
                server = server.with(offered(path, answers, context)?);
            }
            let (url, items) = (server.url(), server.items());
            let offers = answers.answers.as_ref().map(|_| format!("{url}/{ANSWERS}"));
            if context.json {
                let view = show::depot::ServeView { kind: "depot-server", url, items, answers: offers };
                context.print_json(&view)?;
            } else {
                context.print(&show::depot::serving(&url, items, offers.as_deref()))?;
            }
            let quiet = context.quiet || context.json;
            let answered = move |request: neat_depot::Request| {
                if !quiet {
                    crate::exit::complain(&show::depot::request(&request));
                }
            };
            let answered: Arc<dyn Fn(neat_depot::Request) + Send + Sync> = Arc::new(answered);
            server.run(context.stop_flag(), &answered)
        }
        DepotAction::Search { words, architecture, language, kind, depot } => {
            let place = at(depot)?;
            let index = place.index(patience(depot))?;
            let kind = kind.map(|kind| match kind {
                DepotKind::Media => ItemKind::Media,
                DepotKind::Update => ItemKind::Update,
            });
            let (architecture, language) = (architecture.clone(), language.clone());
            let found = index.search(&Search { words: words.clone(), architecture, language, kind });
            if context.json {
                return context.print_json(&show::depot::SearchView {
                    kind: "depot-search",
                    depot: place.location(),
                    title: index.title.clone(),
                    items: found.into_iter().cloned().collect(),
                });
            }
            context.print(&show::depot::search(&place.location(), &index, &found))
        }
        DepotAction::Fetch { id, to, output, replace, depot } => {
            let place = at(depot)?;
            let index = place.index(patience(depot))?;
            let item = index.find(&Reference::of(id)).map_err(|error| error.within(place.location()))?;
            let path = match (output, to) {
                (Some(output), _) => output.clone(),
                (None, folder) => folder.clone().unwrap_or_default().join(item.file_name()),
            };
            let is_it = path.is_file()
                && std::fs::metadata(&path).is_ok_and(|metadata| metadata.len() == item.size)
                && digest_of(&Content::from_path(&path)?, DigestKind::Sha256, &context.job())? == item.sha256;
            context.clear_progress();
            let fetched = if is_it {
                None
            } else {
                refuse_existing(&path, *replace)?;
                if let Some(folder) = to {
                    super::make_folder(folder)?;
                }
                Some(place.fetch(item, &path, options(depot), &context.job())?)
            };
            if context.json {
                return context.print_json(&show::depot::FetchView {
                    kind: "depot-fetch",
                    id: item.full_id(),
                    path: path.display().to_string(),
                    size: item.size,
                    sha256: item.sha256.clone(),
                    transferred: fetched.as_ref().map_or(0, |fetched| fetched.transferred),
                    resumed: fetched.as_ref().map_or(0, |fetched| fetched.resumed),
                    interruptions: fetched.as_ref().map_or(0, |fetched| fetched.interruptions),
                });
            }
            context.print(&show::depot::fetched(item, &path, fetched.as_ref()))
        }
    }
}

/// Makes a pair of keys.
fn key(name: &Path, context: &Context) -> Result<()> {
    let path = |ending: &str| {
        let mut path = name.as_os_str().to_owned();
        path.push(ending);
        PathBuf::from(path)
    };
    let (public_path, secret_path) = (path(".pub"), path(".key"));
    let (public, secret) = neat_depot::new_keys()?;
    let mut ready = Vec::new();
    for (path, text) in [(&public_path, &public), (&secret_path, &secret)] {
        let (pending, mut output) = PendingFile::create_output(path, IfThere::Refuse, None)?;
        if path == &secret_path {
            pending.make_private()?;
        }
        output.write_bytes(text.as_bytes())?;
        ready.push((pending, output.finish()?.0));
    }
    commit_together(ready)?;
    let word = public.lines().nth(1).unwrap_or_default();
    if context.json {
        return context.print_json(&show::depot::KeyView {
            kind: "depot-key",
            public: public_path.display().to_string(),
            secret: secret_path.display().to_string(),
            key: word.to_owned(),
        });
    }
    context.print(&show::depot::keys(&public_path, &secret_path, word))
}

/// Signs indexes and packages.
fn sign(paths: &[PathBuf], key: &Path, context: &Context) -> Result<()> {
    let secret = super::read_text(key, "secret key")?;
    let mut signed = Vec::new();
    for path in paths {
        let path = if path.is_dir() { path.join(INDEX_NAME) } else { path.clone() };
        let name = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        let text = neat_depot::sign(&secret, &Content::from_path(&path)?, &name, &context.job())?;
        let signature = neat_depot::signature_path(&path);
        let (pending, mut output) = PendingFile::create_output(&signature, IfThere::Replace, None)?;
        output.write_bytes(text.as_bytes())?;
        pending.commit(output.finish()?.0)?;
        signed.push(signature.display().to_string());
    }
    if context.json {
        return context.print_json(&show::depot::SignView { kind: "depot-sign", signatures: signed });
    }
    signed.iter().try_for_each(|path| context.print_line(path))
}

fn index(folder: &Path, title: Option<&str>, context: &Context) -> Result<()> {
    let (index, notes) = index_folder(folder, title, &context.job())?;
    context.clear_progress();
    let path = folder.join(INDEX_NAME);
    let (pending, mut output) = PendingFile::create_output(&path, IfThere::Replace, None)?;
    output.write_bytes(index.to_text()?.as_bytes())?;
    pending.commit(output.finish()?.0)?;
    for note in &notes {
        context.note(&format!("passed over {note}"));
    }
    if context.json {
        return context.print_json(&show::depot::IndexView {
            kind: "depot-index",
            path: path.display().to_string(),
            items: index.items,
            passed_over: notes,
        });
    }
    let all = index.search(&Search::default());
    context.print(&show::depot::search(&path.display().to_string(), &index, &all))
}

fn at(depot: &DepotWhere) -> Result<Depot> {
    let location = usual(depot)?.unwrap_or_else(|| USUAL.to_owned());
    Depot::at(&location, Path::new(""))
}

/// The depot that is meant where a stack file names none.
fn usual(depot: &DepotWhere) -> Result<Option<String>> {
    let named = depot.location.clone().or_else(from_environment);
    if named.is_some() { Ok(named) } else { Ok(Config::read()?.depot) }
}

pub(super) fn from_environment() -> Option<String> {
    std::env::var("NEATSTACK_DEPOT").ok().filter(|location| !location.is_empty())
}

const fn patience(depot: &DepotWhere) -> Duration {
    Duration::from_secs(depot.patience)
}

fn options(depot: &DepotWhere) -> FetchOptions {
    FetchOptions { patience: patience(depot), ..FetchOptions::default() }
}

/// Where files for stack files are kept.
fn keep_in(base: &Path) -> PathBuf {
    let folder = |name: &str| std::env::var_os(name).filter(|value| !value.is_empty()).map(PathBuf::from);
    folder("NEATSTACK_CACHE")
        .or_else(|| folder("XDG_CACHE_HOME").map(|cache| cache.join("neatstack")))
        .or_else(|| folder("HOME").map(|home| home.join(".cache/neatstack")))
        .unwrap_or_else(|| base.join(".neatstack-cache"))
}

/// Puts files in the place of what a stack file takes from a depot; `fetch` says whether missing ones are fetched.
pub(super) fn resolve(
    stack: &mut StackFile,
    stack_path: &Path,
    depot: &DepotWhere,
    fetch: bool,
    context: &Context,
) -> Result<Vec<DepotUse>> {
    let base = stack_path.parent().unwrap_or(Path::new(""));
    let default = usual(depot)?;
    // What is given on the command line goes before the stack file's own.
    if depot.location.is_some() {
        stack.depot = None;
    }
    let keep_in = keep_in(base);
    let places =
        DepotPlaces { default: default.as_deref(), keep_in: &keep_in, fetch, options: options(depot) };
    let uses = resolve_depot(stack, base, &places, &context.job())?;
    context.clear_progress();
    Ok(uses)
}

/// The same for commands that look into what they name: it must lie here, and nothing is fetched.
pub(super) fn resolve_here(
    stack: &mut StackFile,
    stack_path: &Path,
    depot: &DepotWhere,
    context: &Context,
) -> Result<Vec<DepotUse>> {
    let uses = resolve(stack, stack_path, depot, false, context)?;
    match uses.iter().find(|item| item.state == DepotState::ToFetch) {
        None => Ok(uses),
        Some(item) => Err(Error::request(
            format!("depot:{} is not here yet: {} has it", item.reference, item.depot),
            format!("fetch it: `neatstack plan {} --fetch`", crate::show::in_command(stack_path)),
        )),
    }
}
