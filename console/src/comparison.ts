// Pairs of voices that are rated, what the ratings say, and places of transcripts.
import type { Schemas } from './api/client'

export interface Pair {
  first: number
  second: number
}

/** The seven steps of ITU-T P.800, annex E: the second against the first. */
export const scores = [
  { value: -3, title: 'Much worse' },
  { value: -2, title: 'Worse' },
  { value: -1, title: 'Slightly worse' },
  { value: 0, title: 'About the same' },
  { value: 1, title: 'Slightly better' },
  { value: 2, title: 'Better' },
  { value: 3, title: 'Much better' },
]

/** Two different voices in random order; nothing where there are fewer. */
export function drawPair(numbers: number[], random: () => number): Pair | undefined {
  const first = numbers[Math.floor(random() * numbers.length)]
  const others = numbers.filter((number) => number !== first)
  const second = others[Math.floor(random() * others.length)]
  return first === undefined || second === undefined ? undefined : { first, second }
}

/** What stands at a place of an alignment of a transcript with what was said. */
export function placeKind(place: Schemas['AlignedAnswer']): 'same' | 'substituted' | 'missing' | 'inserted' {
  if (place.heard == null) return 'missing'
  if (place.reference == null) return 'inserted'
  return place.heard === place.reference ? 'same' : 'substituted'
}

/** What the ratings of two voices say. */
export function verdict(of: Schemas['PreferenceAnswer'], name: (number: number) => string): string {
  if (of.preferred == null) return `No preference between ${name(of.one)} and ${name(of.other)} is certain`
  return `${name(of.preferred)} is preferred to ${name(of.preferred === of.one ? of.other : of.one)}`
}
