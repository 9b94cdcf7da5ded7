// Large files, sent in parts; a part that breaks off goes on from where the
// service has it.
import { CallError, fetchRaw } from './client'

/** Bytes that are sent as one body. */
export const AT_ONCE = 90_000_000
/** Bytes of a part. */
const PART = 16 << 20
/** Parts that break off one after the other. */
const MOST_TRIES = 5

/** Sends a file; gives the id of the upload. */
export async function inParts(file: File, type: string, told: (percent: number) => void): Promise<string> {
  const query = new URLSearchParams({ name: file.name, type })
  const begun = await fetchRaw(`/api/v1/uploads?${query}`, { method: 'POST', headers: { 'Upload-Complete': '?0', 'Content-Type': type } })
  const { id, url } = (await begun.json()) as { id: string; url: string }
  let offset = 0
  for (let tries = 0; offset < file.size; ) {
    const part = file.slice(offset, offset + PART)
    const headers = {
      'Upload-Offset': String(offset),
      'Upload-Complete': offset + part.size >= file.size ? '?1' : '?0',
      'Content-Type': 'application/partial-upload',
    }
    try {
      await fetchRaw(url, { method: 'PATCH', headers, body: part })
      offset += part.size
      tries = 0
    } catch (caught) {
      if ((caught instanceof CallError && caught.problem.status) || ++tries > MOST_TRIES) throw caught
      await new Promise((resolve) => setTimeout(resolve, tries * 1000))
      const there = await fetchRaw(url, { method: 'HEAD' }).catch(() => undefined)
      offset = Number(there?.headers.get('Upload-Offset') ?? offset)
    }
    told((100 * offset) / file.size)
  }
  return id
}
