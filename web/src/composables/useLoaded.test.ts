import { effectScope, nextTick, ref } from 'vue'
import { describe, expect, it } from 'vitest'
import { Failure, type Problem } from '../api/client'
import { useLoaded } from './useLoaded'

const problem: Problem = { type: 'urn:test', title: 't', status: 503, detail: 'away', errors: [] }
const settle = () => new Promise((done) => setTimeout(done))

describe('useLoaded', () => {
  it('lets the latest call win', async () => {
    const key = ref(1)
    const answers: ((value: string) => void)[] = []
    const scope = effectScope()
    const { loaded } = scope.run(() =>
      useLoaded(key, ref(0), () => new Promise<string>((resolve) => answers.push(resolve))),
    )!
    key.value = 2
    await nextTick()
    answers[1]!('second')
    answers[0]!('first')
    await settle()
    expect(loaded.value).toMatchObject({ state: 'ready', data: 'second' })
    scope.stop()
  })

  it('keeps the figures when fetching them anew fails, and drops them for another key', async () => {
    const key = ref(1)
    const again = ref(0)
    let fails = false
    const scope = effectScope()
    const { loaded } = scope.run(() =>
      useLoaded(key, again, async () => {
        if (fails) throw new Failure(problem)
        return 'figures'
      }),
    )!
    await settle()
    fails = true
    again.value += 1
    await settle()
    expect(loaded.value).toMatchObject({ state: 'failed', problem, data: 'figures', at: expect.any(Date) })
    key.value = 2
    await settle()
    expect(loaded.value).toEqual({ state: 'failed', problem, data: undefined })
    scope.stop()
  })
})
