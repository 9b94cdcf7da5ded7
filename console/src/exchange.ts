// Turns of an exchange, as the page shows them.
import type { ExchangeTurn } from '../../client/dispatcher.js'

/** A turn: what was said, what is replied, and how long each stage took. */
export interface Turn {
  exchange: string
  said: string
  reply: string
  end: ExchangeTurn | null
}

/** A stage on the time line, in shares of the whole. */
export interface Bar {
  name: 'ear' | 'reply' | 'voice'
  /** Seconds until its first result. */
  first: number
  /** 0 to 1: it begins, has its first result, ends. */
  from: number
  at: number
  to: number
}

type Stages = Pick<ExchangeTurn, 'stages'>['stages']

/** Each stage from the first result of the one before it to its own last one. */
export function timeLine(stages: Stages): Bar[] {
  const whole = Math.max(...[stages.ear, stages.reply, stages.voice].map((stage) => stage?.end ?? stage?.first ?? 0), 0.001)
  const bars: Bar[] = []
  let from = 0
  for (const name of ['ear', 'reply', 'voice'] as const) {
    const first = stages[name]?.first
    if (first == null) continue
    const to = stages[name]?.end ?? first
    bars.push({ name, first, from: from / whole, at: first / whole, to: to / whole })
    from = first
  }
  return bars
}

/** The turns after something was told of one of them: of the last one, where it is not named. A new one is added. */
export function withTurn(turns: Turn[], change: (turn: Turn) => Turn, exchange = turns.at(-1)?.exchange): Turn[] {
  if (exchange === undefined) return turns
  if (turns.some((turn) => turn.exchange === exchange)) return turns.map((turn) => (turn.exchange === exchange ? change(turn) : turn))
  return [...turns, change({ exchange, said: '', reply: '', end: null })]
}
