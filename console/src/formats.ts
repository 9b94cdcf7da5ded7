// The audio formats and presets of the service, as choices of a menu.
import { api, ask, type Schemas } from './api/client'
import { kilobytes } from './format'

/** A format or a preset: what it is for, and what a second of it takes. */
export interface FormatChoice {
  title: string
  /** A media type, or the name of a preset. */
  value: string
  /** With its dot. */
  extension: string
  /** Hertz to choose from; a preset has its own. */
  rates: number[]
  /** Hertz where none is chosen. */
  rate: number
  /** Bytes a second at a rate; none where that depends on the audio. */
  bytes: (rate: number) => number | null
  lossless: boolean
  /** Takes its rate from the name. */
  preset: boolean
}

function ofFormat(format: Schemas['AudioFormatAnswer']): FormatChoice {
  return {
    title: `${format.title}: ${format.purpose}`,
    value: format.type,
    extension: `.${format.extension}`,
    rates: format.sample_rates.map((one) => one.sample_rate),
    rate: format.default_sample_rate,
    bytes: (rate) => format.sample_rates.find((one) => one.sample_rate === rate)?.bytes_per_second ?? null,
    lossless: format.lossless,
    preset: false,
  }
}

function ofPreset(preset: Schemas['PresetAnswer'], formats: Schemas['AudioFormatAnswer'][]): FormatChoice {
  const own = formats.find((one) => preset.type === one.type || preset.type.startsWith(`${one.type};`))
  return {
    title: `${preset.name}: ${preset.purpose || preset.type}`,
    value: preset.name,
    extension: own ? `.${own.extension}` : '.audio',
    rates: [preset.sample_rate],
    rate: preset.sample_rate,
    bytes: () => preset.bytes_per_second ?? null,
    lossless: preset.lossless,
    preset: true,
  }
}

/** All formats, then all presets. */
export async function formatChoices(): Promise<FormatChoice[]> {
  const [formats, presets] = await Promise.all([ask(api.GET('/api/v1/formats')), ask(api.GET('/api/v1/presets'))])
  return [...formats.items.map(ofFormat), ...presets.items.map((preset) => ofPreset(preset, formats.items))]
}

/** What a second takes, and whether the audio is kept as it is. */
export function weight(choice: FormatChoice, rate: number): string {
  const bytes = choice.bytes(choice.rates.includes(rate) ? rate : choice.rate)
  const size = bytes === null ? 'varies, about half of WAV' : `${kilobytes(bytes)} per second`
  return `${size}, ${choice.lossless ? 'lossless' : 'lossy'}`
}
