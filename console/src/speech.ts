/** What the sound check asks for, as the API, curl and the client take it. */

export interface SpeechWish {
  text: string
  /** Whether the text is a script in SSML. */
  script: boolean
  /** A voice or a route; empty: the app's own. */
  voice: string
  model: string | null
  language: string | null
  /** A media type, or the name of a preset. */
  format: string
  /** In hertz; nothing where the format has a rate of its own. */
  rate: number | null
  /** With its dot. */
  extension: string
}

/** The body of `POST /utterances` and `POST /estimates`. */
export function speechBody(wish: SpeechWish) {
  return {
    ...(wish.script ? { ssml: wish.text } : { text: wish.text }),
    ...(wish.voice ? { voice: wish.voice } : {}),
    ...(wish.model ? { model: wish.model } : {}),
    ...(wish.language ? { language: wish.language } : {}),
    audio: wish.rate === null ? { type: wish.format } : { type: wish.format, sample_rate: wish.rate },
  }
}

/** One word of a POSIX shell. */
export const quote = (value: string) => `'${value.replaceAll("'", `'\\''`)}'`

export function speechCurl(wish: SpeechWish, origin: string) {
  const body = quote(JSON.stringify(speechBody(wish)))
  return `curl ${origin}/api/v1/utterances \\\n  -H "Authorization: Bearer $DISPATCHER_KEY" \\\n  -H 'Content-Type: application/json' \\\n  -d ${body} -o out${wish.extension}`
}

export function speechCommand(wish: SpeechWish) {
  const options = [
    wish.voice && `--voice ${wish.voice}`,
    wish.model && `--model ${wish.model}`,
    wish.language && `--language ${wish.language}`,
    `--format ${quote(wish.format)}`,
    wish.rate !== null && `--sample-rate ${wish.rate}`,
  ]
  return `dispatcher speak ${quote(wish.text)} ${options.filter(Boolean).join(' ')} -o out${wish.extension}`
}

/** What is heard of a script: its text without markup. */
export function plainText(script: string): string {
  return script.replace(/<[^>]*>/g, ' ').replace(/\s+/g, ' ').trim()
}
