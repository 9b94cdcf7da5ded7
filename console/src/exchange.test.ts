import { describe, expect, it } from 'vitest'
import { timeLine, withTurn, type Turn } from './exchange'

const stage = (first: number | null, end: number | null) => ({ first, end, dispatches: [] })

describe('the time line', () => {
  it('shows each stage from the first result of the one before', () => {
    const bars = timeLine({ ear: stage(0.5, 0.5), reply: stage(0.6, 1), voice: stage(1, 2) })
    expect(bars.map((bar) => [bar.name, bar.from, bar.at, bar.to])).toEqual([
      ['ear', 0, 0.25, 0.25],
      ['reply', 0.25, 0.3, 0.5],
      ['voice', 0.3, 0.5, 1],
    ])
  })

  it('leaves out stages that did not come to pass', () => {
    expect(timeLine({ ear: null, reply: stage(0.4, null), voice: stage(null, null) }).map((bar) => bar.name)).toEqual(['reply'])
  })
})

describe('turns', () => {
  it('are added when something is said, and changed until the next one', () => {
    let turns: Turn[] = withTurn([], (turn) => ({ ...turn, reply: 'lost' }))
    expect(turns).toEqual([])
    turns = withTurn(turns, (turn) => ({ ...turn, said: 'When?' }), 'a')
    turns = withTurn(turns, (turn) => ({ ...turn, reply: `${turn.reply}At ten.` }))
    turns = withTurn(turns, (turn) => ({ ...turn, said: 'And then?' }), 'b')
    expect(turns.map((turn) => [turn.exchange, turn.said, turn.reply])).toEqual([
      ['a', 'When?', 'At ten.'],
      ['b', 'And then?', ''],
    ])
    // The reply to the first one has sounded while the second one was said.
    const end = { exchange: 'a', state: 'answered', fault: null, duration: 1, costs: [], stages: { ear: null, reply: stage(0, 0), voice: stage(0, 0) } } as const
    turns = withTurn(turns, (turn) => ({ ...turn, end: { ...end, costs: [] } }), 'a')
    expect(turns.map((turn) => turn.end?.state)).toEqual(['answered', undefined])
  })
})
