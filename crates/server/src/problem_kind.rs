//! The kinds of problem: their slugs, statuses, titles, and what to do about
//! each. Which error is of which kind is in `problem.rs`.

/// What every problem of a kind has.
#[derive(Debug, Clone, Copy)]
pub(crate) struct KindFacts {
    /// The last segment of its URI.
    pub(crate) slug: &'static str,
    pub(crate) status: u16,
    pub(crate) title: &'static str,
    /// What to do next.
    pub(crate) help: &'static str,
}

macro_rules! problem_kinds {
    ($($kind:ident = $slug:literal, $status:literal, $title:literal, $help:literal;)+) => {
        /// A kind of problem.
        #[derive(Debug, Clone, Copy, PartialEq, Eq)]
        pub(crate) enum ProblemKind {
            $($kind,)+
        }

        impl ProblemKind {
            /// All kinds, by status.
            pub(crate) const ALL: &[ProblemKind] = &[$(ProblemKind::$kind,)+];

            pub(crate) const fn facts(self) -> KindFacts {
                match self {
                    $(ProblemKind::$kind => KindFacts { slug: $slug, status: $status, title: $title, help: $help },)+
                }
            }
        }
    };
}

problem_kinds! {
    BadRequest = "bad-request", 400,
        "The request cannot be read",
        "Correct the fault given in the detail and send the request again.";
    UnknownMember = "unknown-member", 400,
        "Unknown member or parameter",
        "Look up the name in the API reference. Unknown names are never ignored.";
    NoKey = "no-key", 401,
        "No key was sent",
        "Send an app key or operator key as Authorization: Bearer KEY.";
    BadKey = "bad-key", 401,
        "The key is not valid",
        "Check that the key is complete. To add a new one: dispatcher app key add APP";
    BadToken = "bad-token", 401,
        "The token is not valid",
        "Ask the app for a new token; it makes one with POST /api/v1/tokens";
    SignedOut = "signed-out", 401,
        "Nobody is signed in",
        "Sign in with your name and password, or with an operator key.";
    NotAllowed = "not-allowed", 403,
        "The key may not do this",
        "Use an operator key. App keys can only speak, transcribe and read.";
    TokenTerms = "token-terms", 403,
        "The token does not allow this",
        "Ask the app for a token for this call, page and amount: dispatcher app token add APP --help";
    AllowanceUsed = "allowance-used", 429,
        "An allowance does not cover the request",
        "Wait until it renews, or ask an operator: dispatcher app allowance list APP";
    BadLink = "bad-link", 403,
        "The link is not valid",
        "Request a new link: a link expires, and is valid for one address only.";
    WrongOrigin = "wrong-origin", 403,
        "The request comes from another origin",
        "With a console session, changes are accepted only from pages of the console.";
    NotFound = "not-found", 404,
        "No such path",
        "Look up the path in the API reference at /api/reference.";
    NoSuchVoice = "no-such-voice", 404,
        "Unknown voice or route",
        "To list voices: dispatcher voices, or GET /api/v1/voices";
    NoSuchEngine = "no-such-engine", 404,
        "Unknown engine",
        "To list engines: dispatcher engine list, or GET /api/v1/engines";
    NoSuchRecord = "no-such-record", 404,
        "Record not found",
        "Check the name against the list of records.";
    NotAcceptable = "not-acceptable", 406,
        "The audio format is not available",
        "Request one of the formats given in the detail.";
    InProgress = "in-progress", 409,
        "The same request is still running",
        "Wait until the first request ends, then send this one again.";
    Changed = "changed", 409,
        "The record has been changed since",
        "Read the record again and send the change for its newest version.";
    InUse = "in-use", 409,
        "The record is in use",
        "First change the records given in the detail.";
    Sheet = "sheet", 422,
        "The engine sheet has a fault",
        "Correct the sheet at the line and column given in the errors.";
    Taken = "taken", 409,
        "The name is taken",
        "Choose another name, or replace the existing record.";
    NotReady = "not-ready", 409,
        "The job or prompt is not in the required state",
        "Read its state; wait for a job to end.";
    TooLarge = "too-large", 413,
        "The body is too large",
        "Send a smaller body, or raise body_megabytes in dispatcher.toml.";
    TextTooLong = "text-too-long", 413,
        "The text is too long for one call of the engine",
        "Shorten the text, or choose an engine with a higher limit.";
    AudioTooLong = "audio-too-long", 413,
        "The audio is too long for one call of the engine",
        "Send it as a job, with Prefer: respond-async, or choose another engine.";
    NotAudio = "not-audio", 415,
        "The audio cannot be read",
        "Send WAV, AIFF, AU, FLAC, MP3, AAC, MP4, Ogg or WebM; raw PCM with its media type and rate.";
    NotADocument = "not-a-document", 415,
        "The document cannot be read",
        "Send plain text, Markdown, SSML, HTML, EPUB or PDF with text in it, under its media type.";
    Unsupported = "unsupported", 422,
        "No engine supports everything in the request",
        "Remove the items given in the errors, or let them be adapted: \"unsupported\": \"adapt\"";
    Markup = "markup", 422,
        "The markup has a fault",
        "Correct the markup at the line and column given in the errors.";
    Invalid = "invalid", 422,
        "The request has an invalid value",
        "Correct the fault given in the detail and send the request again.";
    TooManyAttempts = "too-many-attempts", 429,
        "Too many attempts to sign in",
        "Wait for the time given in Retry-After.";
    Crowded = "crowded", 429,
        "Too many requests are waiting",
        "Wait for the time given in Retry-After, or send fewer requests at once.";
    TooSlow = "too-slow", 408,
        "The body arrives too slowly",
        "Send the body again without long pauses, or send it in parts as an upload.";
    Quota = "quota", 507,
        "The storage quota of the app is used up",
        "Remove uploads, clips or jobs that are no longer needed.";
    NoRoom = "no-room", 507,
        "The disk is full",
        "Free space on the disk of the data folder; reserve_megabytes sets how much must stay free.";
    WrongHost = "wrong-host", 421,
        "The request is for another host",
        "Call the service by the name in public_url, or set public_url to the name that callers use.";
    Stopping = "stopping", 503,
        "The service is stopping",
        "Send the request again in a few seconds.";
    Internal = "internal", 500,
        "Internal error of the gateway",
        "Find the error in the service's log at this time, and report it.";
    EnginesFailed = "engines-failed", 502,
        "All engines failed",
        "See the attempts for the reasons; later: dispatcher dispatches ID";
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use super::*;

    #[test]
    fn every_kind_has_a_uri_of_its_own() {
        let slugs: HashSet<&str> = ProblemKind::ALL.iter().map(|kind| kind.facts().slug).collect();
        assert_eq!(slugs.len(), ProblemKind::ALL.len());
        assert!(
            slugs.iter().all(|slug| slug.bytes().all(|byte| byte.is_ascii_lowercase() || byte == b'-')),
            "{slugs:?}"
        );
    }
}
