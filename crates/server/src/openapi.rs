//! The OpenAPI 3.1 document, from the code.

use rocket::http::ContentType;
use rocket::serde::json::Json;
use rocket::{State, get};
use utoipa::OpenApi as _;

use crate::public_url::PublicUrl;
use crate::routes::Document;
use crate::statuses;

/// The document, without a server address.
pub fn document() -> utoipa::openapi::OpenApi {
    let mut document = Document::openapi();
    statuses::add(&mut document);
    document
}

/// The AsyncAPI document: messages over WebSocket.
#[get("/api/asyncapi.json")]
pub(crate) fn messages() -> (ContentType, &'static str) {
    (ContentType::JSON, include_str!("../../../docs/asyncapi.json"))
}

/// The document with the address of this service.
#[get("/api/openapi.json")]
pub(crate) fn serve(url: &State<PublicUrl>) -> Json<utoipa::openapi::OpenApi> {
    let mut document = document();
    document.servers = Some(vec![utoipa::openapi::Server::new(url.0.clone())]);
    Json(document)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Inside v1 only additions: what the snapshot has must still be there.
    /// `UPDATE_SNAPSHOT=1 cargo test -p dispatcher-server` writes it anew.
    #[test]
    fn the_document_is_the_committed_one() {
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/openapi.json");
        let now = serde_json::to_string_pretty(&document()).expect("document") + "\n";
        if std::env::var_os("UPDATE_SNAPSHOT").is_some() {
            std::fs::write(path, &now).expect("written");
        }
        let then = std::fs::read_to_string(path).expect("docs/openapi.json");
        let (old, new): (serde_json::Value, serde_json::Value) =
            (serde_json::from_str(&then).expect("JSON"), serde_json::from_str(&now).expect("JSON"));
        let lost = missing("", &old, &new);
        assert!(lost.is_empty(), "clients would break, since the document lost or changed: {lost:#?}");
        assert_eq!(then, now, "the document has grown: UPDATE_SNAPSHOT=1 cargo test -p dispatcher-server");
    }

    #[test]
    fn a_removal_or_change_is_found() {
        let old = serde_json::json!({"a": {"b": 1, "c": [1, 2]}});
        assert_eq!(
            missing("", &old, &serde_json::json!({"a": {"b": 1, "c": [1, 2, 3], "d": 0}})),
            Vec::<String>::new()
        );
        assert_eq!(missing("", &old, &serde_json::json!({"a": {"b": 2, "c": [2]}})), ["/a/b", "/a/c/0"]);
    }

    fn missing(at: &str, old: &serde_json::Value, new: &serde_json::Value) -> Vec<String> {
        use serde_json::Value;
        match (old, new) {
            (Value::Object(old), Value::Object(new)) => old
                .iter()
                .flat_map(|(key, value)| match new.get(key) {
                    Some(found) => missing(&format!("{at}/{key}"), value, found),
                    None => vec![format!("{at}/{key}")],
                })
                .collect(),
            (Value::Array(old), Value::Array(new)) => (0..old.len())
                .filter(|index| !new.contains(&old[*index]) && !matches!(old[*index], Value::Object(_)))
                .map(|index| format!("{at}/{index}"))
                .collect(),
            (old, new) if old == new => Vec::new(),
            _ if at.ends_with("/description") || at.ends_with("/summary") || at.ends_with("/example") => Vec::new(),
            _ => vec![at.to_owned()],
        }
    }
}
