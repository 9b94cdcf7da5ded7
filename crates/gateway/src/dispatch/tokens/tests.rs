//! Tests of `tokens.rs`.

use dispatcher_core::{Currency, Money, Usage};

use super::*;

fn token(terms: TokenTerms, expires_at: i64) -> Token {
    let app =
        Mutex::new(App { origins: Some("https://a.example\nhttps://b.example".into()), ..App::new("quay", "", 0) });
    let (id, made_by) = ("t1".into(), "k1".into());
    Token(Arc::new(KnownToken { id, made_by, app, terms, expires_at, used: Mutex::default() }))
}

fn characters(count: u64) -> RequestShare {
    RequestShare::of_text(Usage { characters: count, ..Usage::default() }, Money::zero(Currency::EUR))
}

#[test]
fn what_is_held_is_given_back_or_settled_once() {
    let token = token(TokenTerms { characters: Some(10), ..TokenTerms::default() }, i64::MAX);
    let used = || token.0.used.lock().characters;
    let mut first = token.hold(characters(6)).expect("there is enough");
    assert!(token.hold(characters(5)).is_err());
    first.settle(&AmountsUsed { characters: 4, ..AmountsUsed::default() });
    assert_eq!(used(), 4);
    drop(first);
    assert_eq!(used(), 4, "what is settled stays");
    let mut second = token.hold(characters(3)).expect("there is enough");
    second.extend(characters(3)).expect("there is enough");
    assert!(second.extend(characters(1)).is_err());
    second.give_back(characters(2));
    assert_eq!(used(), 8);
    drop(second);
    assert_eq!(used(), 4, "what is not settled is given back");
}

#[test]
fn a_page_must_be_of_the_app_and_of_the_token() {
    let speak = |terms: TokenTerms, page: Page<'_>| {
        let token = token(TokenTerms { calls: vec![TokenCall::Speak], ..terms }, i64::MAX);
        let app = token.0.app.lock().clone();
        token.check(&app, TokenCall::Speak, page).is_ok()
    };
    let bound = || TokenTerms { origin: Some("https://a.example".into()), ..TokenTerms::default() };
    for (page, free_is, bound_is) in [
        (Page::None, true, false),
        (Page::Own, true, true),
        (Page::Other("https://a.example"), true, true),
        (Page::Other("https://b.example"), true, false),
        (Page::Other("https://c.example"), false, false),
        (Page::Other("null"), false, false),
    ] {
        assert_eq!(speak(TokenTerms::default(), page), free_is, "{page:?}");
        assert_eq!(speak(bound(), page), bound_is, "{page:?}, a token of one page");
    }
    let gone = TokenTerms { origin: Some("https://c.example".into()), ..TokenTerms::default() };
    assert!(!speak(gone, Page::Other("https://c.example")), "the app has this origin no more");
}

#[test]
fn a_token_that_was_looked_up_before_a_change_is_looked_up_again() {
    let book = TokenBook::default();
    let before = book.generation();
    book.forget("t1");
    assert!(book.put("h".into(), token(TokenTerms::default(), i64::MAX), before, 0).is_none());
    let known = book.put("h".into(), token(TokenTerms::default(), i64::MAX), book.generation(), 0).expect("known");
    let again = book.put("h".into(), token(TokenTerms::default(), i64::MAX), book.generation(), 0).expect("known");
    assert!(Arc::ptr_eq(&known.0, &again.0), "what is held from it is held once");
    book.change(&App { origins: None, ..App::new("quay", "", 0) });
    assert_eq!(known.0.app.lock().origins, None);
    book.forget("t1");
    assert!(book.get("h").is_none());
}

#[test]
fn a_full_book_keeps_tokens_of_which_something_is_held() {
    let book = TokenBook::default();
    let held = book.put("held".into(), token(TokenTerms::default(), 100), book.generation(), 0).expect("known");
    let _hold = held.hold(characters(1)).expect("there is enough");
    drop(held);
    for number in 0..MOST_KNOWN {
        let one = token(TokenTerms::default(), 100);
        book.put(format!("{number}"), one, book.generation(), 0).expect("known");
    }
    assert!(book.get("held").is_some());
    assert!(book.known.lock().by_hash.len() <= MOST_KNOWN);
}
