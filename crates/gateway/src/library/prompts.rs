//! Prompt sets: a table of prompts kept in step with its files. Only what
//! would sound otherwise now is made again; somebody's ear approves it.

use std::path::PathBuf;

use dispatcher_core::{Money, Prompt, Wanted};
use dispatcher_store::{Approval, DocumentVersion, NewVersion, StoreError, StoredPromptFile, VersionedKind};

use crate::dispatch::recalled::write_named;
use crate::{Caller, Gateway, GatewayError, SynthesisRequest, TextInput, Unsupported, now_micros};

/// State of a file compared with its row.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PromptState {
    /// It is as the row says.
    Made,
    New,
    /// It would sound otherwise now.
    Changed,
    /// It cannot be made as the row says.
    Faulty,
}

impl PromptState {
    /// The word for it.
    pub fn name(self) -> &'static str {
        match self {
            PromptState::Made => "made",
            PromptState::New => "new",
            PromptState::Changed => "changed",
            PromptState::Faulty => "faulty",
        }
    }
}

/// A row in one of its formats.
#[derive(Debug, Clone)]
pub struct PromptLine {
    pub prompt: Prompt,
    pub format: String,
    pub state: PromptState,
    /// Of making it; `None` if it cannot be.
    pub cost: Option<Money>,
    /// What was made of it last.
    pub file: Option<StoredPromptFile>,
    /// Why it is faulty.
    pub problem: Option<String>,
}

/// A prompt set against its files.
#[derive(Debug, Clone)]
pub struct PromptSet {
    pub row: DocumentVersion,
    pub lines: Vec<PromptLine>,
}

/// Prompts that one call makes at the most.
const MOST_AT_ONCE: usize = 100;

/// Said of a file whose fingerprint cannot be compared any more.
const OLDER: &str = "made by an earlier version of the service; its row may be unchanged";

impl Gateway {
    fn prompts_folder(&self, set: &str) -> Result<PathBuf, GatewayError> {
        let clips = self.inner.host.clips.as_ref();
        let folder = clips.map(|clips| clips.join("prompts").join(set));
        folder.ok_or_else(|| GatewayError::NoFolder("prompts"))
    }

    /// Keeps a table; files of rows that are as they were stay.
    ///
    /// # Errors
    /// When another app has a set of this name.
    pub async fn put_prompt_set(&self, caller: &Caller, name: &str, rows: Vec<Prompt>) -> Result<(), GatewayError> {
        let document = serde_json::to_string(&rows).map_err(GatewayError::document("a prompt set"))?;
        // An operator changes the table, and not whose it is.
        let known = self.inner.store.prompt_set(name.to_owned()).await.ok().map(|(row, _)| row.app);
        let app = known
            .filter(|app| app.as_ref().is_some_and(|app| caller.may_see(app)) || caller.is_operator())
            .unwrap_or_else(|| Some(caller.app.name.clone()));
        let new = NewVersion { app, ..NewVersion::by(&caller.who, VersionedKind::PromptSet, name, document) };
        self.inner.store.put_version(new, now_micros()).await?;
        Ok(())
    }

    /// The prompt sets that a caller may see, without their lines.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn prompt_sets(&self, caller: &Caller) -> Result<Vec<DocumentVersion>, GatewayError> {
        let mut sets = self.inner.store.in_force(VersionedKind::PromptSet).await?;
        sets.retain(|set| caller.reads_all() || set.app.as_ref().is_some_and(|app| caller.may_see(app)));
        Ok(sets)
    }

    async fn own_prompt_set(
        &self,
        caller: &Caller,
        name: &str,
    ) -> Result<(DocumentVersion, Vec<StoredPromptFile>), GatewayError> {
        let found = self.inner.store.prompt_set(name.to_owned()).await?;
        if !caller.reads_all() && !found.0.app.as_ref().is_some_and(|app| caller.may_see(app)) {
            return Err(StoreError::Missing { what: "prompt set", name: name.to_owned() }.into());
        }
        Ok(found)
    }

    /// Who a set is made for: its app pays, whoever asks.
    async fn payer(&self, caller: &Caller, row: &DocumentVersion) -> Result<Caller, GatewayError> {
        match &row.app {
            Some(app) if *app != caller.app.name => {
                Ok(Caller { app: self.inner.store.app(app.clone()).await?, ..caller.clone() })
            }
            _ => Ok(caller.clone()),
        }
    }

    /// A prompt set, each row in each of its formats against what was made.
    ///
    /// # Errors
    /// Where the caller has none of the name.
    pub async fn prompt_set(&self, caller: &Caller, name: &str) -> Result<PromptSet, GatewayError> {
        self.prompts_of(caller, name, &[]).await
    }

    /// The same with the lines of these prompts alone; of all where none is named.
    async fn prompts_of(&self, caller: &Caller, name: &str, ids: &[String]) -> Result<PromptSet, GatewayError> {
        let (row, files) = self.own_prompt_set(caller, name).await?;
        let payer = self.payer(caller, &row).await?;
        let prompts: Vec<Prompt> =
            serde_json::from_str(&row.document).map_err(GatewayError::document("a prompt set"))?;
        if let Some(id) = ids.iter().find(|id| prompts.iter().all(|prompt| prompt.id != **id)) {
            return Err(StoreError::Missing { what: "prompt", name: id.clone() }.into());
        }
        let mut lines = Vec::new();
        for prompt in prompts.into_iter().filter(|prompt| ids.is_empty() || ids.contains(&prompt.id)) {
            for format in &prompt.formats {
                let made = |file: &&StoredPromptFile| file.prompt == prompt.id && file.format == *format;
                let file = files.iter().find(made).cloned();
                lines.push(self.prompt_line(&payer, &prompt, format, file).await);
            }
        }
        Ok(PromptSet { row, lines })
    }

    async fn prompt_line(
        &self,
        payer: &Caller,
        prompt: &Prompt,
        format: &str,
        file: Option<StoredPromptFile>,
    ) -> PromptLine {
        let estimate = match self.prompt_request(prompt, format) {
            Ok(request) => self.estimate_speech(payer, &request).await,
            Err(error) => Err(error),
        };
        let (prompt, format) = (prompt.clone(), format.to_owned());
        match estimate {
            Err(error) => {
                let (state, problem) = (PromptState::Faulty, Some(error.to_string()));
                PromptLine { prompt, format, state, cost: None, file, problem }
            }
            Ok(estimate) => {
                let fingerprint = estimate.fingerprint.unwrap_or_default();
                let mut problem = None;
                let state = match &file {
                    None => PromptState::New,
                    Some(file) if file.fingerprint == fingerprint => PromptState::Made,
                    Some(file) => {
                        let is_older = !crate::dispatch::fingerprint::is_current(&file.fingerprint);
                        problem = is_older.then(|| OLDER.to_owned());
                        PromptState::Changed
                    }
                };
                PromptLine { prompt, format, state, cost: Some(estimate.cost), file, problem }
            }
        }
    }

    fn prompt_request(&self, prompt: &Prompt, format: &str) -> Result<SynthesisRequest, GatewayError> {
        let registry = self.registry();
        let text = match (&prompt.text, &prompt.ssml) {
            (_, Some(document)) => TextInput::Ssml(document.clone()),
            (text, None) => TextInput::Plain(text.clone().unwrap_or_default()),
        };
        let mut request = SynthesisRequest {
            deadline: None,
            credential: None,
            text,
            wanted: prompt.voice.clone().map(Wanted::Named),
            model: prompt.model.clone(),
            language: prompt.language.clone(),
            unsupported: Unsupported::Adapt,
            shaping: Default::default(),
            format: registry.presets().format(format).map_err(GatewayError::Format)?,
            region: None,
            trace: None,
            notes: Vec::new(),
            cache: crate::CacheWish::Off,
        };
        request.find_language(&registry);
        Ok(request)
    }

    /// Makes those of the given prompts that are not as their rows say; all of
    /// the set where none is given.
    ///
    /// # Errors
    /// The first that cannot be made; what was made before it stays.
    pub async fn make_prompts(&self, caller: &Caller, name: &str, ids: &[String]) -> Result<usize, GatewayError> {
        let set = self.prompts_of(caller, name, ids).await?;
        let payer = self.payer(caller, &set.row).await?;
        let wanted = |line: &&PromptLine| match line.state {
            PromptState::Made => false,
            PromptState::New | PromptState::Changed => true,
            // Told where it is asked for by its name.
            PromptState::Faulty => !ids.is_empty(),
        };
        let open: Vec<&PromptLine> = set.lines.iter().filter(wanted).take(MOST_AT_ONCE).collect();
        for line in &open {
            self.make_prompt(&payer, name, line).await?;
        }
        Ok(open.len())
    }

    async fn make_prompt(&self, payer: &Caller, set: &str, line: &PromptLine) -> Result<(), GatewayError> {
        let request = self.prompt_request(&line.prompt, &line.format)?;
        let format = request.format;
        let utterance = self.speak(payer, request).await?;
        let (dispatch, fingerprint) = (utterance.dispatch.clone(), utterance.fingerprint.clone());
        let mut body = utterance.body;
        let mut audio = Vec::new();
        while let Some(piece) = body.next().await {
            let piece = piece
                .map_err(|error| GatewayError::AllFailed { dispatch: dispatch.clone(), attempts: vec![error.0] })?;
            audio.extend_from_slice(&piece);
        }
        body.completion().complete_bytes(&mut audio);
        let told = Some(format).filter(|format| !format.codec.describes_itself());
        let length = dispatcher_audio::measure(&audio, told).map_err(GatewayError::NotAudio)?.1;
        let file = line.prompt.file(&line.format, format.codec.extension());
        let bytes = i64::try_from(audio.len()).unwrap_or(i64::MAX);
        write_named(self.prompts_folder(set)?, file.clone(), audio.into()).await?;
        let row = StoredPromptFile {
            prompt_set: set.to_owned(),
            prompt: line.prompt.id.clone(),
            format: line.format.clone(),
            // By a fallback it sounds otherwise, and is made again once its own
            // voice is back.
            fingerprint,
            file,
            media_type: format.media_type(),
            bytes,
            audio_ms: i64::try_from(length.milliseconds()).unwrap_or(i64::MAX),
            dispatch,
            made_at: now_micros(),
            approved_by: None,
            approved_at: None,
        };
        Ok(self.inner.store.put_prompt_file(row).await?)
    }

    /// Writes what somebody who has heard a prompt says of it, in every format.
    ///
    /// # Errors
    /// When it is not as its row says: what is stale cannot be found good.
    pub async fn approve_prompt(
        &self,
        caller: &Caller,
        name: &str,
        id: &str,
        approval: Approval,
    ) -> Result<(), GatewayError> {
        let set = self.prompts_of(caller, name, &[id.to_owned()]).await?;
        if let Some(line) = set.lines.iter().find(|line| approval == Approval::Given && line.state != PromptState::Made)
        {
            return Err(GatewayError::Stale { prompt: id.to_owned(), state: line.state.name() });
        }
        for line in set.lines {
            let key = (name.to_owned(), id.to_owned(), line.format.clone());
            self.inner.store.approve_prompt(key, caller.who.clone(), approval, now_micros()).await?;
        }
        Ok(())
    }

    /// The files of a set that belong to its rows, each with where it lies;
    /// one alone where it is named.
    ///
    /// # Errors
    /// Where the caller has none of the name.
    pub async fn prompt_files(
        &self,
        caller: &Caller,
        name: &str,
        file: Option<&str>,
    ) -> Result<Vec<(StoredPromptFile, PathBuf)>, GatewayError> {
        let (row, files) = self.own_prompt_set(caller, name).await?;
        let prompts: Vec<Prompt> =
            serde_json::from_str(&row.document).map_err(GatewayError::document("a prompt set"))?;
        let folder = self.prompts_folder(name)?;
        let current = |one: &StoredPromptFile| {
            prompts.iter().any(|prompt| prompt.id == one.prompt && prompt.formats.contains(&one.format))
        };
        let wanted = files.into_iter().filter(|one| match file {
            Some(file) => one.file == file,
            None => current(one),
        });
        Ok(wanted.map(|one| (one.clone(), folder.join(one.file))).collect())
    }

    /// Removes a set with its files.
    ///
    /// # Errors
    /// Where the caller has none of the name.
    pub async fn remove_prompt_set(&self, caller: &Caller, name: &str) -> Result<(), GatewayError> {
        self.own_prompt_set(caller, name).await?;
        self.inner.store.remove_prompt_set(name.to_owned(), caller.who.clone(), now_micros()).await?;
        // The record is gone; nothing leads to files that stay.
        let _ = tokio::fs::remove_dir_all(self.prompts_folder(name)?).await;
        Ok(())
    }
}
