import { mount } from '@vue/test-utils'
import { describe, expect, it } from 'vitest'
import StatementToRun from './StatementToRun.vue'

const pieces = [
  { piece: 'text', text: 'CREATE INDEX ' },
  {
    piece: 'decision',
    name: 'concurrently',
    question: 'May writers wait?',
    suggestion: null,
    choices: [
      { label: 'No', text: 'CONCURRENTLY ', consequence: 'Takes longer.' },
      { label: 'Yes', text: '', consequence: 'Writers wait.' },
    ],
  },
  { piece: 'decision', name: 'name', question: 'What is it called?', suggestion: 'leg_state', choices: [] },
  { piece: 'text', text: ' ON passage_leg (state);' },
]
const statement = () => mount(StatementToRun, { props: { pieces: pieces as never } })

describe('a statement with open decisions', () => {
  it('cannot be copied before each question is answered', async () => {
    const wrapper = statement()
    expect(wrapper.get('[data-test=statement-open]').text()).toContain(
      '‹concurrently?› ‹name?›  ON passage_leg',
    )
    await wrapper.findAll('input[type=radio]')[1]!.setValue(true)
    expect(wrapper.find('[data-test=statement-open]').exists()).toBe(true)
    await wrapper.get('.name button').trigger('click')
    expect(wrapper.find('[data-test=statement-open]').exists()).toBe(false)
    expect(wrapper.get('pre').text()).toBe('CREATE INDEX leg_state ON passage_leg (state);')
  })

  it('is open again when a name is taken away', async () => {
    const wrapper = statement()
    await wrapper.findAll('input[type=radio]')[0]!.setValue(true)
    const name = wrapper.get('.name input')
    await name.setValue('mine')
    expect(wrapper.get('pre').text()).toBe('CREATE INDEX CONCURRENTLY mine ON passage_leg (state);')
    await name.setValue('')
    expect(wrapper.find('[data-test=statement-open]').exists()).toBe(true)
  })
})
