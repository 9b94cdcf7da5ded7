//! Raw samples of tone speech, piece by piece, as the weather lets them.

use std::sync::Arc;

use futures::SinkExt as _;
use hyper::body::Frame;

use crate::serve::{Body, streamed};
use crate::spoken::{Stretch, text_of};
use crate::tone::{Manner, Speaker, pcm_bytes};
use crate::weather::{Forecast, Sky};

/// A body that says the text as 16-bit samples, little-endian, behind a head
/// (none where it is empty), and is counted.
pub(crate) fn pour(
    text: String,
    manner: Manner,
    rate: u32,
    head: Vec<u8>,
    forecast: Option<Forecast>,
    sky: Arc<Sky>,
) -> Body {
    pour_stretches(vec![Stretch { text, silence: 0.0, rate: 1.0, pitch: 1.0 }], manner, rate, head, forecast, sky)
}

/// The same for what is said in several ways, with silence between.
pub(crate) fn pour_stretches(
    stretches: Vec<Stretch>,
    manner: Manner,
    rate: u32,
    head: Vec<u8>,
    forecast: Option<Forecast>,
    sky: Arc<Sky>,
) -> Body {
    let (mut sender, body) = streamed();
    tokio::spawn(async move {
        let text = text_of(&stretches);
        let cut = forecast.and_then(|forecast| forecast.cut(text.len() + 4));
        let characters = text.chars().count() as u64;
        let mut piece = head;
        let sound = stretches.iter().flat_map(|stretch| {
            let silence = vec![0.0; (stretch.silence * f64::from(rate) / 1_000.0).round() as usize];
            let manner = Manner { pitch: manner.pitch * stretch.pitch, rate: manner.rate * stretch.rate };
            std::iter::once(silence).chain(Speaker::new(&stretch.text, manner, rate))
        });
        for (number, samples) in sound.enumerate() {
            if cut.is_some_and(|cut| number > cut) {
                let _ = sender.send(Err("half".into())).await;
                return;
            }
            if let Some(forecast) = forecast {
                forecast.rest().await;
            }
            piece.extend(pcm_bytes(&samples));
            let ready = std::mem::take(&mut piece);
            sky.count(|delivered| delivered.audio_bytes += ready.len() as u64);
            if sender.send(Ok(Frame::data(ready.into()))).await.is_err() {
                return sky.count(|delivered| delivered.left += 1);
            }
            // Speaking is quick work here; others must get their turn.
            tokio::task::yield_now().await;
        }
        sky.count(|delivered| {
            delivered.whole += 1;
            delivered.characters += characters;
        });
    });
    body
}

/// A body of bytes that are there already, as the weather lets them go;
/// counted as `audio` bytes of audio.
pub(crate) fn send(bytes: Vec<u8>, audio: usize, characters: usize, forecast: Option<Forecast>, sky: Arc<Sky>) -> Body {
    let (mut sender, body) = streamed();
    tokio::spawn(async move {
        let bytes = bytes::Bytes::from(bytes);
        let end = forecast.and_then(|forecast| forecast.cut(bytes.len())).unwrap_or(bytes.len());
        for at in (0..end).step_by(4_096) {
            if let Some(forecast) = forecast {
                forecast.rest().await;
            }
            if sender.send(Ok(Frame::data(bytes.slice(at..end.min(at + 4_096))))).await.is_err() {
                return sky.count(|delivered| delivered.left += 1);
            }
        }
        sky.count(|delivered| delivered.audio_bytes += (audio * end / bytes.len().max(1)) as u64);
        if end < bytes.len() {
            let _ = sender.send(Err("half".into())).await;
            return;
        }
        sky.count(|delivered| {
            delivered.whole += 1;
            delivered.characters += characters as u64;
        });
    });
    body
}
