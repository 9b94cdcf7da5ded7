import { describe, expect, it } from 'vitest'
import { withMessage, type Caption, type LiveMessage } from './captions'

const told = (messages: [LiveMessage['type'], number, string][]) =>
  messages.reduce<Caption[]>((captions, [type, segment, text]) => withMessage(captions, 1, { type, segment, text }), []).map((one) => `${one.text}${one.final ? '' : '…'}`)

describe('captions', () => {
  it('replaces what is interim and keeps what is final', () => {
    expect(
      told([
        ['interim', 1, 'ramp the'],
        ['interim', 1, 'the ramp is'],
        ['interim', 2, 'clear stand'],
        ['final', 1, 'The ramp is closing.'],
        ['interim', 1, 'ramp the'],
        ['final', 2, 'Stand clear.'],
      ]),
    ).toEqual(['The ramp is closing.', 'Stand clear.'])
  })

  it('shows nothing for a guess that is taken back', () => {
    expect(told([['interim', 1, 'uh'], ['interim', 1, ''], ['final', 2, 'Cast off.']])).toEqual(['Cast off.'])
  })

  it('keeps the lines of an earlier session', () => {
    const first = withMessage([], 1, { type: 'final', segment: 1, text: 'Aye.' })
    expect(withMessage(first, 2, { type: 'interim', segment: 1, text: 'no' }).map((one) => one.text)).toEqual(['Aye.', 'no'])
  })
})
