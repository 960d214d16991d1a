import { disableAutoUnmount, enableAutoUnmount } from '@vue/test-utils'
import { afterEach, vi } from 'vitest'

// Files share one document and one clock: what a test shows goes with it, and time is that of the machine unless a
// file says otherwise. This is run for each of them.
vi.useRealTimers()
disableAutoUnmount()
enableAutoUnmount(afterEach)
afterEach(() => document.body.replaceChildren())
