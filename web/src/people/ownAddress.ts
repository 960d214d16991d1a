/** Where to go on: an address of our own, and never where a link from elsewhere might lead. */
export function ownAddress(next: unknown): string {
  const address = String(next ?? '/')
  return address.startsWith('/') && !address.startsWith('//') ? address : '/'
}
