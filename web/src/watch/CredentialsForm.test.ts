import { flushPromises } from '@vue/test-utils'
import { beforeEach, describe, expect, it, vi } from 'vitest'
import { defineComponent, h, ref } from 'vue'
import { roster, server, show, stubServer } from '../testing/page'
import CredentialsForm from './CredentialsForm.vue'

const closed = vi.fn()
beforeEach(() => {
  stubServer()
  closed.mockReset()
  document.body.innerHTML = ''
  server.answers = {
    'GET /api/v1/session': { name: 'mate', role: 'administrator', csrf_token: 'kelp' },
    'GET /api/v1/roster': roster(),
  }
})
const open = ref(true)
const page = defineComponent(
  () => () => h(CredentialsForm, { open: open.value, credentials: [], onClose: () => closed() }),
)
const field = (name: string) => document.querySelector<HTMLInputElement>(`input[name=${name}]`)!
async function type(name: string, text: string): Promise<void> {
  field(name).value = text
  field(name).dispatchEvent(new Event('input'))
  await flushPromises()
}

describe('stored credentials', () => {
  it('say what is wrong beside its field, and keep what was typed', async () => {
    await show(page, '/watch/instances')
    vi.stubGlobal('fetch', () => {
      const errors = [{ field: 'name', value: 'x', remedy: 'Give a name that is not taken.' }]
      const problem = { type: 'urn:x', title: 'Not right', status: 422, detail: 'name: taken', errors }
      const headers = { 'content-type': 'application/problem+json' }
      return Promise.resolve(new Response(JSON.stringify(problem), { status: 422, headers }))
    })
    await type('credential', 'watchers')
    document.querySelector('form')!.dispatchEvent(new Event('submit'))
    await flushPromises()
    const fault = field('credential').closest('label')!.querySelector('[role=alert]')
    expect(fault?.textContent).toBe('Give a name that is not taken.')
    expect(field('credential').value).toBe('watchers')
  })

  it('ask before they close where something was typed', async () => {
    await show(page, '/watch/instances')
    const close = () => document.querySelector<HTMLElement>('.ant-modal-close')!.click()
    await type('account', 'harbour')
    close()
    await flushPromises()
    expect(document.body.textContent).toContain('Discard the changes?')
    expect(closed).not.toHaveBeenCalled()
  })
})
