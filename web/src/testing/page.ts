import { flushPromises, mount, type VueWrapper } from '@vue/test-utils'
import { createPinia, setActivePinia } from 'pinia'
import { vi } from 'vitest'
import type { Component } from 'vue'
import { createMemoryHistory, createRouter, type Router } from 'vue-router'
import { PAGES } from '../pages'

/**
 * What answers requests, by method and path, and what inputs are refused; and the addresses that were asked for, newest
 * last.
 */
export const server: {
  answers: Record<string, unknown>
  refused?: Record<string, { field: string; value: string; remedy: string; parts?: unknown[] }>
  asked: URL[]
} = { answers: {}, asked: [] }

/** Answers requests from `server`; one that is not there is a problem of status 404. */
export function stubServer(): void {
  vi.stubGlobal('fetch', (request: Request) => {
    const url = new URL(request.url)
    server.asked.push(url)
    const asked = `${request.method} ${url.pathname}`
    const fault = server.refused?.[asked]
    const body = fault ? undefined : server.answers[asked]
    const problem = {
      type: 'urn:x',
      title: fault ? 'An input is not right' : 'Not there',
      status: fault ? 422 : 404,
      detail: fault?.remedy ?? `No ${url.pathname}.`,
      errors: fault ? [fault] : [],
    }
    const status = body === undefined ? problem.status : 200
    const headers = { 'content-type': 'application/json' }
    return Promise.resolve(new Response(JSON.stringify(body ?? problem), { status, headers }))
  })
}

/** An instance as the roster has it, with what a test wants to be different. */
export function instance(change: Record<string, unknown> = {}): Record<string, unknown> {
  return {
    instance_id: 1,
    label: 'passage-a',
    group: null,
    engine: 'postgres',
    host: 'passage-host',
    port: 5432,
    database: 'passage',
    account: 'hurnix_watch',
    tls: 'prefer',
    host_endpoint: null,
    settings: { keeps_literals: false, more_databases: [], day_zone: '' },
    collection: 'collecting',
    collection_since: '2026-03-01T06:00:00Z',
    problem: null,
    last_success_at: '2026-03-01T06:10:00Z',
    server_version: '15.18',
    cost_share: 0.002,
    cost_bytes: 2048,
    stretch: 1,
    limits: [],
    health: 'quiet',
    lost_seconds_per_second: 0,
    alarms: 0,
    worst: null,
    silenced_by: null,
    open_advice: 0,
    strip: [0, null, 1],
    strip_cell_seconds: 300,
    strip_low: [],
    strip_high: [],
    ...change,
  }
}

/** The list of all instances, as it is fetched the first time. */
export function roster(...instances: Record<string, unknown>[]): Record<string, unknown> {
  const changed = instances.map((one, at) => ({ ...one, instance_id: at + 1 }))
  return { as_of: '2026-03-01T06:10:00Z', order: changed.map((one) => one.instance_id), changed }
}

/** A page shown at an address, with the roster and the session fetched before. */
export async function show(
  page: Component,
  address: string,
): Promise<{ wrapper: VueWrapper; router: Router }> {
  const pinia = createPinia()
  setActivePinia(pinia)
  const { useRoster } = await import('../stores/roster')
  const { useSession } = await import('../stores/session')
  const elsewhere = { template: '<p />' }
  const router = createRouter({
    history: createMemoryHistory(),
    routes: PAGES.map(({ name, path }) => ({ name, path: `/${path}`, component: elsewhere })),
  })
  await router.push(address)
  await useRoster().refresh()
  await useSession().resume()
  const wrapper = mount(page, { global: { plugins: [pinia, router] } })
  await flushPromises()
  return { wrapper, router }
}
