import { describe, expect, it } from 'vitest'
import { speechBody, speechCommand, speechCurl, type SpeechWish } from './speech'

const wish: SpeechWish = {
  text: "The 06:15 isn't late.",
  script: false,
  voice: 'heron/pellin',
  model: 'fine',
  language: 'en-GB',
  format: 'audio/mpeg',
  rate: 24000,
  extension: '.mp3',
}

describe('what the sound check asks for', () => {
  it('sends all that was chosen', () => {
    expect(speechBody(wish)).toEqual({
      text: "The 06:15 isn't late.",
      voice: 'heron/pellin',
      model: 'fine',
      language: 'en-GB',
      audio: { type: 'audio/mpeg', sample_rate: 24000 },
    })
  })

  it('leaves out what was not', () => {
    const bare = { ...wish, text: '<speak/>', script: true, voice: '', model: null, language: null, format: 'phone', rate: null }
    expect(speechBody(bare)).toEqual({ ssml: '<speak/>', audio: { type: 'phone' } })
    expect(speechCommand(bare)).toBe("dispatcher speak '<speak/>' --format 'phone' -o out.mp3")
  })

  it('shows commands that a shell takes as they are', () => {
    expect(speechCommand(wish)).toBe(
      "dispatcher speak 'The 06:15 isn'\\''t late.' --voice heron/pellin --model fine --language en-GB --format 'audio/mpeg' --sample-rate 24000 -o out.mp3",
    )
    const curl = speechCurl(wish, 'http://127.0.0.1:7420')
    expect(curl).toContain('curl http://127.0.0.1:7420/api/v1/utterances')
    expect(curl).toContain('"model":"fine"')
    expect(curl).toContain("The 06:15 isn'\\''t late.")
  })
})
