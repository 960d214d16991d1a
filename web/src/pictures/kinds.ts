/** Wait kinds in their fixed order, with the plain words shown beside them. */
export const KINDS = [
  { key: 'running', label: 'running', plain: 'on a CPU, or ready to be' },
  { key: 'storage_read', label: 'storage read', plain: 'waiting for pages from storage' },
  { key: 'storage_write', label: 'storage write', plain: 'waiting for pages to reach storage' },
  { key: 'log_write', label: 'log write', plain: 'waiting for WAL to be written' },
  { key: 'temp_space', label: 'temp space', plain: 'sorts and hashes that did not fit in memory' },
  { key: 'lock', label: 'lock', plain: "waiting for another transaction's lock" },
  { key: 'latch', label: 'latch', plain: 'waiting for a short internal lock' },
  { key: 'network', label: 'network', plain: 'waiting for the client' },
  { key: 'peer', label: 'peer', plain: 'waiting for another process or server' },
  { key: 'other', label: 'other', plain: 'anything else, such as a deliberate pause' },
] as const

/** The ink of a wait kind: its pattern in its hue. */
export function kindInk(position: number): string {
  return `url(#ink-${position})`
}
