import { readdirSync, readFileSync } from 'node:fs'
import { join } from 'node:path'
import { describe, expect, it } from 'vitest'

/** Words that are not to come back to the interface, each with what is said instead. */
const GONE: [RegExp, string][] = [
  [/\bLeave it\b|\bKeep it\b|\bNot yet\b/, 'Cancel'],
  [/\bI have it\b/, 'Close'],
  [/\bMake it\b|\bMake a\b/, 'Create'],
  [/\bRemove it\b/, 'Delete'],
  [/\bBring (a list|it in)\b|\bbrought in\b/, 'Import'],
  [/\bTake (back|all of them back)\b/, 'Undo'],
  [/\bTry (it out|again)\b/, 'Test connection; Retry'],
  [/\bLook (for servers|again)\b/, 'Discover; Refresh'],
  [/\bunder care\b/, 'on the roster'],
  [/\bWhat it tells\b/, 'Collection'],
  [/\bopen advice\b|\bpieces? of advice\b/i, 'recommendation'],
  [/\bclean-?up\b/i, 'vacuum'],
  [/\bwrite-ahead log\b/i, 'WAL'],
  [/\b[Ss]et aside\b/, 'dismissed'],
  [/\b[Pp]ut in force\b/, 'applied'],
  [/\bstands? in the way\b/, 'obstacle'],
  [/[Pp]lease\b|\b[Ss]orry\b/, 'nothing'],
]

const files = readdirSync('src', { recursive: true, encoding: 'utf8' }).filter((file) =>
  file.endsWith('.vue'),
)

/** What is shown of a page: the text between tags, and attributes that hold text. */
function shown(file: string): string {
  const text = readFileSync(join('src', file), 'utf8')
  const template = text.slice(text.indexOf('<template>'))
  const strings = [...text.matchAll(/'([^'\n]* [^'\n]*)'|`([^`]* [^`]*)`/g)].map(
    (match) => match[1] ?? match[2],
  )
  return [template.replace(/<!--[\s\S]*?-->/g, ''), ...strings].join('\n').replace(/\s+/g, ' ')
}

describe('the words of the interface', () => {
  it.each(GONE)('do not include %s', (gone, instead) => {
    const found = files.flatMap((file) => {
      const match = gone.exec(shown(file))
      return match ? [`${file}: “${match[0]}”, say ${instead}`] : []
    })
    expect(found).toEqual([])
  })
})
