/** Speech in a page, by a Dispatcher service. */

/** A problem document (RFC 9457). */
export interface Problem {
  type?: string
  title?: string
  status?: number
  detail?: string
  /** What to do next. */
  help?: string
}

export class DispatcherError extends Error {
  readonly problem: Problem
  readonly status: number
}

export interface Amount {
  amount: string
  currency: string
}

export interface SpokenStart {
  dispatch: string
  engine: string
  voice: string
  model: string | null
  warnings: string[]
}

export interface SpokenWord {
  text: string
  /** Seconds of the utterance. */
  start: number | null
  end: number | null
}

export interface SpokenMark {
  name: string
  /** Seconds of the utterance. */
  time: number
}

export interface SpokenEnd {
  /** It was stopped, or it failed. */
  stopped: boolean
  /** Seconds that have sounded. */
  heard: number
  /** Seconds of the whole. */
  duration?: number
  cost?: Amount
  dispatch?: string
  error?: DispatcherError
}

export interface DetailEvent<Detail> extends Event {
  readonly detail: Detail
}

/** What tells events of these names. */
interface Telling<Events> {
  addEventListener<Type extends keyof Events & string>(type: Type, listener: (event: DetailEvent<Events[Type]>) => void, options?: boolean | AddEventListenerOptions): void
  removeEventListener<Type extends keyof Events & string>(type: Type, listener: (event: DetailEvent<Events[Type]>) => void, options?: boolean | EventListenerOptions): void
}

interface UtteranceEvents {
  start: SpokenStart
  word: SpokenWord
  mark: SpokenMark
  end: SpokenEnd
  error: DispatcherError
}

export interface Utterance extends Telling<UtteranceEvents> {}

export class Utterance {
  private constructor()
  /** Resolves with what was heard; never rejects. */
  readonly ended: Promise<SpokenEnd>
  /** Seconds that have sounded. */
  readonly heard: number
  readonly over: boolean
  /** Silence at once. */
  stop(): void
}

export interface CaptionLine {
  segment: number
  text: string
  final: boolean
  start: number | null
  end: number | null
  command?: { command: string; slots: Record<string, string> } | null
}

export interface CaptionsEnd {
  text: string
  stopped: boolean
  duration?: number
  cost?: Amount
  dispatch?: string
  error?: DispatcherError
}

interface CaptionsEvents {
  open: { dispatch: string; engine: string }
  result: CaptionLine
  end: CaptionsEnd
  error: DispatcherError
}

export interface Captions extends Telling<CaptionsEvents> {}

export class Captions {
  private constructor()
  readonly ended: Promise<CaptionsEnd>
  /** All that was said so far. */
  readonly text: string
  readonly over: boolean
  /** No more is said; the last results still come. */
  finish(): void
  /** Ends at once. */
  stop(): void
}

export interface CaptionOptions {
  engine?: string
  route?: string
  language?: string
  hints?: string[]
  /** Whether results are told that may still change. */
  interim?: boolean
}

export interface SpeakOptions {
  voice?: string
  language?: string
  model?: string
  prosody?: { rate?: string | number; pitch?: string | number; volume?: string | number }
  style?: { name: string; strength?: number }
  /** Do not stop what is still spoken. */
  together?: boolean
}

export interface Transcript {
  text: string
  language: string
  duration: number
  engine: string
  cost: Amount
  dispatch: string
}

interface TalkEvents {
  listening: { captions: Captions }
  result: CaptionLine
  end: CaptionsEnd
  error: DispatcherError
}

export interface PushToTalk extends Telling<TalkEvents> {
  remove(): void
}

export interface Recording {
  stop(): Promise<Blob>
}

export interface ExchangeOptions {
  /** When a turn is over: after a silence, or when `release()` is called. */
  turns?: 'silence' | 'push'
  /** Seconds of silence that end a turn. */
  silence?: number
  /** Whether speaking into a reply ends it. */
  barge_in?: boolean
  /** Whether interim results are told. */
  interim?: boolean
  /** Members of a recognition request. */
  ear?: { engine?: string; route?: string; language?: string; hints?: string[] }
  /** How the hook is to answer; the context is handed to it. */
  reply?: { context?: unknown; within?: number; characters?: number }
  /** Members of a synthesis request. */
  voice?: { voice?: string; language?: string; model?: string; prosody?: { rate?: string | number } }
  site?: 'local' | 'cloud'
}

/** Seconds from the end of what was said. */
export interface ExchangeStage {
  first: number | null
  end: number | null
  dispatches: string[]
}

export interface ExchangeTurn {
  exchange: string
  state: 'answered' | 'apologised' | 'stopped'
  fault: string | null
  /** Seconds of the reply's audio. */
  duration: number
  stages: { ear: ExchangeStage | null; reply: ExchangeStage; voice: ExchangeStage }
  costs: Amount[]
}

interface ExchangeEvents {
  open: { audio: string }
  listening: { at: number }
  interim: CaptionLine
  final: CaptionLine
  'nothing-said': object
  said: { exchange: string; text: string }
  reply: { text: string }
  sentence: { number: number; text: string; from: number; voice: string; dispatch: string }
  word: SpokenWord
  fault: { detail: string }
  /** The reply has sounded. */
  turn: ExchangeTurn
  end: object
  error: DispatcherError
}

export interface Exchange extends Telling<ExchangeEvents> {}

export class Exchange {
  /** `connect` gives the address of the session. */
  constructor(connect: () => Promise<URL>, options?: ExchangeOptions)
  readonly ended: Promise<{ error?: DispatcherError }>
  readonly over: boolean
  /** Begins a turn, with `turns: 'push'`. */
  press(): void
  /** Ends the turn. */
  release(): Promise<void>
  /** A turn that is typed. */
  say(text: string): void
  /** A file for the hook, with the next turn. */
  attach(file: Blob): Promise<void>
  /** Ends the reply that sounds. */
  stop(): void
  close(): void
}

export class Dispatcher {
  constructor(options: {
    /** A token, or what gives one: it is asked again when one has ended. */
    token: string | (() => string | Promise<string>)
    /** Of the service; where this module comes from, unless given. */
    url?: string
  })
  /** Speaks a text or SSML. What is still spoken is stopped. */
  speak(text: string | { text: string } | { ssml: string }, options?: SpeakOptions): Utterance
  /** Transcribes a recording; the options are the query of `POST /transcripts`. */
  transcribe(recording: Blob, options?: Record<string, string>): Promise<Transcript>
  /** Records the microphone. */
  record(): Promise<Recording>
  /** Captions what is said into the microphone. */
  caption(options?: CaptionOptions): Captions
  /** Speaks with the reply hook of the app, turn by turn. */
  exchange(options?: ExchangeOptions): Exchange
  /** Captions while a button is held, by pointer or by Space or Enter. */
  pushToTalk(button: HTMLElement, options?: CaptionOptions): PushToTalk
}
