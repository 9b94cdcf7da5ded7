import { describe, expect, it } from 'vitest'
import { drawPair, placeKind, scores, verdict } from './comparison'

describe('comparisons', () => {
  it('draws every ordered pair of voices and never a voice with itself', () => {
    const seen = new Set<string>()
    for (let a = 0; a < 3; a++) {
      for (let b = 0; b < 2; b++) {
        const draws = [a / 3, b / 2]
        const pair = drawPair([1, 4, 6], () => draws.shift() ?? 0)
        seen.add(`${pair?.first}-${pair?.second}`)
      }
    }
    expect([...seen].sort()).toEqual(['1-4', '1-6', '4-1', '4-6', '6-1', '6-4'])
    expect(drawPair([1], () => 0)).toBeUndefined()
    expect(drawPair([], () => 0)).toBeUndefined()
  })

  it('has the seven steps from worse to better', () => {
    expect(scores.map((score) => score.value)).toEqual([-3, -2, -1, 0, 1, 2, 3])
  })

  it('tells what stands at a place of an alignment', () => {
    const place = (reference: string | null, heard: string | null) => placeKind({ reference, heard })
    expect([place('six', 'six'), place('leaves', 'leave'), place('at', null), place(null, 'now')]).toEqual(['same', 'substituted', 'missing', 'inserted'])
  })

  it('says who is preferred', () => {
    const of = { one: 1, other: 2, count: 9, mean: -1, interval: 0.4, price_ratio: null, preferred: 1 as number | null }
    const name = (number: number) => ['', 'flite/slt', 'heron/pellin'][number] ?? ''
    expect(verdict(of, name)).toBe('flite/slt is preferred to heron/pellin')
    expect(verdict({ ...of, preferred: 2 }, name)).toBe('heron/pellin is preferred to flite/slt')
    expect(verdict({ ...of, preferred: null }, name)).toBe('No preference between flite/slt and heron/pellin is certain')
  })
})
