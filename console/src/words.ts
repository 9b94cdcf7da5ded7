/** A word of a transcript; times in seconds. */
export interface TimedWord {
  start?: number | null
  end?: number | null
}

/** The index of the word that is heard at a time; -1 between words. */
export function wordAt(words: TimedWord[], now: number) {
  return words.findIndex((word) => (word.start ?? 0) <= now && now < (word.end ?? 0))
}

/** A spoken command with its slots, in words. */
export function commandText(spoken: { command: string; slots: Record<string, string> }) {
  return [spoken.command, ...Object.entries(spoken.slots).map(([slot, value]) => `${slot}: ${value}`)].join(', ')
}

/** What was changed after recognition, in words. */
export function changeText(change: { heard?: string | null; written: string; likeness?: number | null }) {
  if (!change.heard) return `${change.written} was masked`
  const likeness = change.likeness == null ? '' : ` (likeness ${change.likeness.toFixed(2)})`
  return `“${change.heard}” became “${change.written}”${likeness}`
}

/** The words of a text, each once, in their order. */
export function distinctWords(text: string): string[] {
  return [...new Set(text.match(/[\p{L}\p{M}\p{N}]+(?:['’-][\p{L}\p{M}\p{N}]+)*/gu) ?? [])]
}

/** A text with another word in place of one, wherever that stands by itself. */
export function withWord(text: string, word: string, other: string): string {
  const escaped = word.replace(/[.*+?^${}()|[\]\\]/g, '\\$&')
  return text.replace(new RegExp(`(?<![\\p{L}\\p{M}\\p{N}])${escaped}(?![\\p{L}\\p{M}\\p{N}])`, 'gu'), () => other)
}
