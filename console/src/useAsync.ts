// Work that a page waits for: whether it is under way, whether it has ended
// once, and why it failed last.
import { ref } from 'vue'

export function useAsync() {
  const error = ref<unknown>()
  /** What is under way, for the button that began it. */
  const busy = ref('')
  /** Something has ended: a page that shows nothing is empty, and not loading. */
  const done = ref(false)

  /** Does the work and gives whether it succeeded. A former error stays until then, so that a page that polls does not flicker. */
  async function run(work: () => Promise<unknown>, what = 'load'): Promise<boolean> {
    busy.value = what
    try {
      await work()
      error.value = undefined
      return true
    } catch (caught) {
      error.value = caught
      return false
    } finally {
      busy.value = ''
      done.value = true
    }
  }

  return { error, busy, done, run }
}
