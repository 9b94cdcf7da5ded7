//! Tables by hand: a generated schema maps INTEGER to 32 bits, which cuts money.

use diesel::{allow_tables_to_appear_in_same_query, table};

table! {
    versions (kind, name, version) {
        kind -> Text, name -> Text, version -> BigInt, app -> Nullable<Text>, always -> Bool, document -> Text,
        origin -> Text, created_at -> BigInt, retired_at -> Nullable<BigInt>,
    }
}
table! {
    credentials (name, version) {
        name -> Text, version -> BigInt, engine -> Text, state -> Text, cause -> Nullable<Text>, part_names -> Text,
        hosts -> Text, wrapped_key -> Binary, ciphertext -> Binary, created_by -> Text, created_at -> BigInt,
        last_used_at -> Nullable<BigInt>, ends_at -> Nullable<BigInt>,
    }
}
table! {
    apps (name) {
        name -> Text, title -> Text, rehearsal -> Bool, default_voice -> Nullable<Text>,
        default_recognition -> Nullable<Text>, created_at -> BigInt, default_format -> Nullable<Text>,
        custom_voices -> Nullable<Text>, site -> Nullable<Text>, recall -> Text,
        per_minute -> Nullable<BigInt>, at_once -> Nullable<BigInt>, region -> Nullable<Text>,
        transcript_days -> Nullable<BigInt>, language -> Nullable<Text>, origins -> Nullable<Text>,
        reply_hook -> Nullable<Text>, apology -> Nullable<Text>, disclosure -> Nullable<Text>,
        notice -> Nullable<Text>,
    }
}
table! {
    access_keys (id) {
        id -> Text, app -> Text, operator -> Bool, hash -> Text, hint -> Text, label -> Text, created_at -> BigInt,
        last_used_at -> Nullable<BigInt>, revoked_at -> Nullable<BigInt>, per_minute -> Nullable<BigInt>,
        at_once -> Nullable<BigInt>, expires_at -> Nullable<BigInt>, calls -> Nullable<Text>,
        routes -> Nullable<Text>, engines -> Nullable<Text>, voices -> Nullable<Text>, networks -> Nullable<Text>,
    }
}
table! {
    allowances (id) {
        id -> Text, app -> Text, key -> Nullable<Text>, unit -> Text, amount -> BigInt, currency -> Nullable<Text>,
        period -> Text, made_by -> Text, made_at -> BigInt,
    }
}
table! {
    tokens (id) {
        id -> Text, app -> Text, hash -> Text, label -> Text, calls -> Text, routes -> Text, origin -> Nullable<Text>,
        characters -> Nullable<BigInt>, audio_ms -> Nullable<BigInt>, cost_nanos -> Nullable<BigInt>,
        currency -> Nullable<Text>, made_by -> Text, made_at -> BigInt, expires_at -> BigInt,
        revoked_at -> Nullable<BigInt>, end_user -> Nullable<Text>,
    }
}
table! {
    exchanges (id) {
        id -> Text, app -> Text, who -> Text, state -> Text, fault -> Nullable<Text>, begun_at -> BigInt,
        ear_dispatch -> Nullable<Text>, ear_ms -> Nullable<BigInt>, said_characters -> BigInt,
        reply_first_ms -> Nullable<BigInt>, reply_ms -> Nullable<BigInt>, reply_characters -> BigInt,
        voice_first_ms -> Nullable<BigInt>, voice_ms -> Nullable<BigInt>, audio_ms -> BigInt,
        voice_dispatches -> Text, end_user -> Nullable<Text>,
    }
}
table! {
    notices (id) {
        id -> Text, rule -> Text, watched -> Text, subject -> Text, detail -> Text, since -> BigInt,
        told_at -> BigInt, over_at -> Nullable<BigInt>, problem -> Nullable<Text>,
    }
}
table! {
    people (name) {
        name -> Text, password_hash -> Text, created_at -> BigInt, role -> Text, apps -> Nullable<Text>,
    }
}
table! {
    sessions (hash) {
        hash -> Text, person -> Text, created_at -> BigInt, expires_at -> BigInt, key -> Nullable<Text>,
    }
}
table! {
    canary_runs (id) {
        id -> Text, canary -> Text, version -> BigInt, run_at -> BigInt, is_reference -> Bool,
        dispatch -> Nullable<Text>, audio_ms -> BigInt, loudness -> Nullable<Double>, pitch -> Nullable<Double>,
        heard -> Nullable<Text>, word_errors -> Nullable<Double>, words_missing -> BigInt, fault -> Nullable<Text>,
    }
}
table! {
    comparisons (id) { id -> Text, app -> Text, text -> Text, made_by -> Text, made_at -> BigInt, }
}
table! {
    compared_voices (comparison, number) {
        comparison -> Text, number -> BigInt, voice -> Text, model -> Nullable<Text>, dispatch -> Nullable<Text>,
        nanos -> BigInt, currency -> Text, first_us -> Nullable<BigInt>, total_us -> Nullable<BigInt>,
        audio_ms -> BigInt, loudness -> Nullable<Double>, fault -> Nullable<Text>,
    }
}
table! {
    preference_ratings (comparison, number) {
        comparison -> Text, number -> BigInt, first -> BigInt, second -> BigInt, score -> BigInt, made_by -> Text,
        made_at -> BigInt,
    }
}
table! {
    dispatches (id) {
        id -> Text, app -> Text, work -> Text, requested -> Text, rehearsal -> Bool, state -> Text,
        engine -> Nullable<Text>, voice -> Nullable<Text>, model -> Nullable<Text>, media_type -> Text,
        language -> Nullable<Text>, characters -> BigInt, audio_ms -> BigInt, first_us -> Nullable<BigInt>,
        total_us -> Nullable<BigInt>, cost_nanos -> BigInt, currency -> Text, problem -> Nullable<Text>,
        trace -> Nullable<Text>, started_at -> BigInt, job -> Nullable<Text>, sample -> Bool, recalled -> Bool,
        saved_nanos -> BigInt, token -> Nullable<Text>, caller -> Text,
        principal -> Text, end_user -> Nullable<Text>,
    }
}
table! {
    health_hours (scope, name, work, hour) {
        scope -> Text, name -> Text, work -> Text, hour -> BigInt, calls -> BigInt, failures -> BigInt,
        fallbacks -> BigInt, first -> Binary, total -> Binary,
    }
}
table! {
    jobs (id) {
        id -> Text, app -> Text, by -> Text, work -> Text, title -> Text, state -> Text, reason -> Nullable<Text>,
        request -> Text, pieces -> BigInt, estimate_nanos -> BigInt, currency -> Text, webhook -> Nullable<Text>,
        notified_at -> Nullable<BigInt>, given_up_at -> Nullable<BigInt>,
        created_at -> BigInt, started_at -> Nullable<BigInt>, ended_at -> Nullable<BigInt>,
        expires_at -> Nullable<BigInt>, warnings -> Text, estimates -> Text,
        end_user -> Nullable<Text>,
    }
}
table! {
    job_pieces (job, track, piece) {
        job -> Text, track -> BigInt, piece -> BigInt, fingerprint -> Text, engine -> Text, dispatch -> Text,
        audio_ms -> BigInt, made_at -> BigInt,
    }
}
table! {
    job_files (job, number) {
        job -> Text, number -> BigInt, name -> Text, title -> Text, media_type -> Text, bytes -> BigInt,
        audio_ms -> BigInt,
    }
}
table! {
    attempts (dispatch, number) {
        dispatch -> Text, number -> BigInt, engine -> Text, voice -> Nullable<Text>, model -> Nullable<Text>,
        state -> Text, cause -> Nullable<Text>, detail -> Nullable<Text>, offset_us -> BigInt,
        first_us -> Nullable<BigInt>, total_us -> Nullable<BigInt>, credential -> Nullable<Text>,
    }
}
table! {
    ledger (id) {
        id -> BigInt, dispatch -> Text, attempt -> BigInt, kind -> Text, app -> Text, engine -> Text,
        model -> Nullable<Text>, work -> Text, day -> Text, characters -> BigInt, audio_ms -> BigInt, nanos -> BigInt,
        currency -> Text, at -> BigInt,
    }
}
table! {
    usage_hours (day, hour, app, caller, engine, voice, model, route, language, work, currency) {
        day -> Text, hour -> Text, app -> Text, caller -> Text, engine -> Text, voice -> Text, model -> Text,
        route -> Text, language -> Text, work -> Text, currency -> Text, requests -> BigInt, failures -> BigInt,
        fallbacks -> BigInt, recalled -> BigInt, characters -> BigInt, audio_ms -> BigInt, nanos -> BigInt,
        saved_nanos -> BigInt,
    }
}
table! {
    audit (id) { id -> BigInt, at -> BigInt, who -> Text, action -> Text, subject -> Text, }
}

table! {
    retention_rules (kind) { kind -> Text, days -> BigInt, made_by -> Text, made_at -> BigInt, }
}
table! {
    catalogues (engine) {
        engine -> Text, document -> Text, read_at -> Nullable<BigInt>, tried_at -> BigInt, problem -> Nullable<Text>,
    }
}
table! {
    catalogue_changes (id) {
        id -> BigInt, engine -> Text, at -> BigInt, voice -> Text, kind -> Text, detail -> Text,
    }
}
table! {
    favourites (voice) { voice -> Text, by -> Text, at -> BigInt, }
}
table! {
    recalled (fingerprint, app) {
        fingerprint -> Text, app -> Text, content -> Text, media_type -> Text, bytes -> BigInt, audio_ms -> BigInt,
        engine -> Text, voice -> Text, made_at -> BigInt, used_at -> BigInt, end_user -> Nullable<Text>,
    }
}
table! {
    clips (id, app) {
        id -> Text, app -> Text, title -> Text, media_type -> Text, bytes -> BigInt, audio_ms -> BigInt,
        created_by -> Text, created_at -> BigInt,
    }
}
table! {
    transcripts (id) {
        id -> Text, app -> Text, title -> Text, engine -> Text, language -> Nullable<Text>, audio_ms -> BigInt,
        made_at -> BigInt, expires_at -> BigInt, end_user -> Nullable<Text>,
    }
}
table! {
    transcript_versions (transcript, version) {
        transcript -> Text, version -> BigInt, document -> Text, made_by -> Text, made_at -> BigInt,
    }
}
table! {
    prompt_files (prompt_set, prompt, format) {
        prompt_set -> Text, prompt -> Text, format -> Text, fingerprint -> Text, file -> Text, media_type -> Text,
        bytes -> BigInt, audio_ms -> BigInt, dispatch -> Text, made_at -> BigInt, approved_by -> Nullable<Text>,
        approved_at -> Nullable<BigInt>,
    }
}

allow_tables_to_appear_in_same_query!(apps, access_keys);
allow_tables_to_appear_in_same_query!(apps, tokens);
allow_tables_to_appear_in_same_query!(jobs, job_files);
