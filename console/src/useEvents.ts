// What happens, as the service tells it: one stream for this window, closed
// while nobody looks at it. A page that shows such things loads them anew.
import { onMounted, onUnmounted } from 'vue'

export type Happening = 'dispatch' | 'breaker' | 'notice'

const happenings: Happening[] = ['dispatch', 'breaker', 'notice']
const listeners = new Set<(what?: Happening) => void>()
let stream: EventSource | undefined

function open() {
  if (stream || document.hidden || !listeners.size) return
  stream = new EventSource('/api/v1/events')
  const told = (what?: Happening) => () => listeners.forEach((listen) => listen(what))
  // After it was closed, or broke off, anything may have happened.
  stream.addEventListener('open', told())
  stream.addEventListener('missed', told())
  for (const what of happenings) stream.addEventListener(what, told(what))
}

function close() {
  stream?.close()
  stream = undefined
}

function turn() {
  if (document.hidden) close()
  else open()
}

/** No page loads more often than this, however much happens. */
const PAUSE = 1000

/** Calls `load` whenever something of interest has happened, now and then at the most. Gives what ends it. */
export function follow(load: () => unknown, of: Happening[]): () => void {
  let waiting: ReturnType<typeof setTimeout> | undefined
  let last = 0

  function listen(what?: Happening) {
    if ((what && !of.includes(what)) || waiting) return
    const wait = Math.max(0, last + PAUSE - Date.now())
    waiting = setTimeout(() => {
      waiting = undefined
      last = Date.now()
      load()
    }, wait)
  }

  if (!listeners.size) document.addEventListener('visibilitychange', turn)
  listeners.add(listen)
  open()
  return () => {
    clearTimeout(waiting)
    listeners.delete(listen)
    if (listeners.size) return
    document.removeEventListener('visibilitychange', turn)
    close()
  }
}

/** The same for as long as a page is there. */
export function useEvents(load: () => unknown, of: Happening[] = happenings) {
  let stop = () => {}
  onMounted(() => {
    stop = follow(load, of)
  })
  onUnmounted(() => stop())
}
