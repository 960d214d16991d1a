import { expect, it } from 'vitest'
import { ownAddress } from './ownAddress'

it('leads to addresses of our own only', () => {
  expect(ownAddress('/audit-trail?span=7')).toBe('/audit-trail?span=7')
  for (const next of [undefined, null, 'https://wreckers.example', '//wreckers.example', 'javascript:0'])
    expect(ownAddress(next)).toBe('/')
})
