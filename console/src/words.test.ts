import { describe, expect, it } from 'vitest'
import { changeText, commandText, distinctWords, withWord, wordAt } from './words'

describe('the word that is heard', () => {
  const words = [
    { start: 0.2, end: 0.5 },
    { start: 0.5, end: 0.9 },
    { start: 1.4, end: 2 },
    { start: null, end: null },
  ]

  it.each([
    [0, -1],
    [0.2, 0],
    [0.49, 0],
    [0.5, 1],
    [0.9, -1],
    [1.2, -1],
    [1.4, 2],
    [2, -1],
  ])('at %s s is %s', (now, index) => {
    expect(wordAt(words, now)).toBe(index)
  })
})

describe('what was done with a transcript', () => {
  it('is told without what was masked', () => {
    expect(changeText({ heard: 'gull say', written: 'Gullsay', likeness: 0.912 })).toBe('“gull say” became “Gullsay” (likeness 0.91)')
    expect(changeText({ heard: null, written: '[card-number]', likeness: null })).toBe('[card-number] was masked')
  })

  it('names a command with its slots', () => {
    expect(commandText({ command: 'close-ramp', slots: {} })).toBe('close-ramp')
    expect(commandText({ command: 'announce', slots: { pier: 'north', text: 'all aboard' } })).toBe('announce, pier: north, text: all aboard')
  })
})

describe('words of a text', () => {
  it('are each there once, in their order, without marks', () => {
    expect(distinctWords('The 06:15 to Gullsay. To Saint-Malo, the ferry’s gate; to Gullsay!')).toEqual([
      'The', '06', '15', 'to', 'Gullsay', 'To', 'Saint-Malo', 'the', 'ferry’s', 'gate',
    ])
    expect(distinctWords('  — … ')).toEqual([])
  })

  it('are replaced where they stand by themselves', () => {
    expect(withWord('Gullsay, Gullsayer and Gullsay.', 'Gullsay', 'gull $1 say')).toBe('gull $1 say, Gullsayer and gull $1 say.')
    expect(withWord('São Sãos', 'São', 'sown')).toBe('sown Sãos')
    expect(withWord('a.b a+b', 'a+b', 'c')).toBe('a.b c')
  })
})
