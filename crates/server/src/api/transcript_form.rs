//! The forms that a transcript is answered in, by `Accept`.

use dispatcher_audio::by_weight;
use dispatcher_core::Transcript;
use rocket::request::Request;
use rocket::response::{self, Responder, Response};

use crate::headers::ToldHeader;
use crate::idempotency::StoredAnswer;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::wire::JobAnswer;

/// What the answer is written as.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum TranscriptForm {
    Json,
    Text,
    Vtt,
    Srt,
    Csv,
    Ctm,
    Rttm,
}

impl TranscriptForm {
    const ALL: [TranscriptForm; 7] = [
        TranscriptForm::Json,
        TranscriptForm::Text,
        TranscriptForm::Vtt,
        TranscriptForm::Srt,
        TranscriptForm::Csv,
        TranscriptForm::Ctm,
        TranscriptForm::Rttm,
    ];

    fn content_type(self) -> &'static str {
        match self {
            TranscriptForm::Json => "application/json",
            TranscriptForm::Text => "text/plain; charset=utf-8",
            TranscriptForm::Vtt => "text/vtt; charset=utf-8",
            TranscriptForm::Srt => "application/x-subrip",
            TranscriptForm::Csv => "text/csv; charset=utf-8",
            TranscriptForm::Ctm => "text/x-ctm; charset=utf-8",
            TranscriptForm::Rttm => "text/x-rttm; charset=utf-8",
        }
    }

    /// A transcript of audio of a duration in seconds; its text if the form is JSON.
    pub(super) fn text_of(self, transcript: &Transcript, length: f64) -> String {
        match self {
            TranscriptForm::Text | TranscriptForm::Json => format!("{}\n", transcript.text),
            TranscriptForm::Vtt => transcript.to_vtt(length),
            TranscriptForm::Srt => transcript.to_srt(length),
            TranscriptForm::Csv => transcript.to_csv(length),
            TranscriptForm::Ctm => transcript.to_ctm(length),
            TranscriptForm::Rttm => transcript.to_rttm(length),
        }
    }

    /// Its media type without parameters.
    fn essence(self) -> &'static str {
        self.content_type().split(';').next().unwrap_or_default()
    }
}

/// The form that is liked best; JSON where anything will do.
pub(super) fn form_of(accept: &str) -> Result<TranscriptForm, Problem> {
    if accept.trim().is_empty() {
        return Ok(TranscriptForm::Json);
    }
    for range in by_weight(accept) {
        let essence = range.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
        let form = match essence.as_str() {
            "*/*" | "application/*" => Some(TranscriptForm::Json),
            "text/*" => Some(TranscriptForm::Text),
            essence => TranscriptForm::ALL.into_iter().find(|form| form.essence() == essence),
        };
        if let Some(form) = form {
            return Ok(form);
        }
    }
    let known = TranscriptForm::ALL.map(TranscriptForm::essence).join(", ");
    Err(Problem::new(ProblemKind::NotAcceptable, format!("'{accept}' cannot be made; ask for one of {known}")))
}

/// An answer, written.
pub(crate) struct WrittenTranscript {
    status: u16,
    pub(super) headers: Vec<ToldHeader>,
    pub(super) content_type: &'static str,
    pub(super) body: Vec<u8>,
}

impl WrittenTranscript {
    pub(super) fn new(form: TranscriptForm, headers: Vec<ToldHeader>, body: Vec<u8>) -> WrittenTranscript {
        WrittenTranscript { status: 200, headers, content_type: form.content_type(), body }
    }

    pub(super) fn of_job(job: &JobAnswer) -> Result<WrittenTranscript, Problem> {
        let body = serde_json::to_vec(job).map_err(|error| Problem::new(ProblemKind::Internal, error.to_string()))?;
        let headers = vec![
            ("Location", format!("/api/v1/jobs/{}", job.id)),
            ("Preference-Applied", "respond-async".into()),
            ("Vary", "Accept, Prefer".into()),
        ];
        Ok(WrittenTranscript { status: 202, headers, content_type: "application/json", body })
    }

    pub(super) async fn of_kept(kept: &StoredAnswer) -> Result<WrittenTranscript, Problem> {
        let body = tokio::fs::read(&**kept.body)
            .await
            .map_err(|error| Problem::new(ProblemKind::Internal, error.to_string()))?;
        let known = TranscriptForm::ALL.map(TranscriptForm::content_type);
        let content_type = known.into_iter().find(|known| *known == kept.content_type).unwrap_or(known[0]);
        Ok(WrittenTranscript { status: kept.status, headers: kept.headers.clone(), content_type, body })
    }
}

impl<'r> Responder<'r, 'static> for WrittenTranscript {
    fn respond_to(self, _: &'r Request<'_>) -> response::Result<'static> {
        let mut response = Response::build();
        response.status(rocket::http::Status::new(self.status));
        response.raw_header("Content-Type", self.content_type);
        for (name, value) in self.headers {
            response.raw_header_adjoin(name, value);
        }
        response.sized_body(self.body.len(), std::io::Cursor::new(self.body)).ok()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn weights_decide_which_form_a_transcript_has() {
        for (accept, form) in [
            ("", "Json"),
            ("*/*", "Json"),
            ("text/vtt;q=0.5, application/x-subrip", "Srt"),
            ("application/json;q=0.1, text/plain", "Text"),
            ("application/json;q=0, text/*;q=0.2", "Text"),
            ("image/png, Text/VTT", "Vtt"),
            ("text/csv, text/plain;q=0.5", "Csv"),
            ("text/x-rttm;q=0.9, text/x-ctm", "Ctm"),
        ] {
            let made = form_of(accept).ok().map(|form| format!("{form:?}"));
            assert_eq!(made.as_deref(), Some(form), "{accept}");
        }
        assert!(form_of("image/png, application/json;q=0").is_err(), "nothing that can be made is liked");
    }
}
