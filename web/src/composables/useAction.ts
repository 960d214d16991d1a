import { computed, ref, shallowRef } from 'vue'
import { Failure, type Problem } from '../api/client'

/** Something that is done on request: which is under way, and what went wrong the last time. */
export function useAction() {
  const busy = ref('')
  const problem = shallowRef<Problem | null>(null)
  /** What is wrong with a field, in the words of the server. */
  const fault = computed(
    () => (field: string) => problem.value?.errors?.find((error) => error.field === field)?.remedy ?? '',
  )

  /** Does it; answers whether it went well. What was typed is left alone either way. */
  async function run(what: string, request: () => Promise<unknown>): Promise<boolean> {
    busy.value = what
    problem.value = null
    try {
      await request()
      return true
    } catch (error) {
      if (!(error instanceof Failure)) throw error
      problem.value = error.problem
      return false
    } finally {
      busy.value = ''
    }
  }

  return { busy, problem, fault, run }
}
