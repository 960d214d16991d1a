/** How well a name answers what was typed; 0 where it does not. Ranks names that are known in the browser. */
export function likeness(typed: string, name: string): number {
  const wanted = typed.trim().toLowerCase()
  const told = name.toLowerCase()
  if (wanted === '') return 1
  const at = told.indexOf(wanted)
  if (at === 0) return 4
  if (at > 0) return /[a-z0-9]/.test(told[at - 1]!) ? 2 : 3
  return Math.min(...words(told).map((word) => distance(wanted, word))) <= allowed(wanted) ? 1 : 0
}

const words = (text: string) => [text, ...text.split(/[^\p{L}\p{N}]+/u)]

/** Typing errors that are passed over: one in a word of four letters, two in a longer one than seven. */
const allowed = (word: string) => (word.length < 4 ? 0 : word.length < 8 ? 1 : 2)

/**
 * Letters to be changed, left out, put in or swapped with their neighbour until one text begins with the other:
 * restricted Damerau–Levenshtein distance, the end of the longer text being free.
 */
function distance(typed: string, word: string): number {
  let before: number[] = []
  let last = Array.from({ length: word.length + 1 }, (_, i) => i)
  for (let i = 1; i <= typed.length; i++) {
    const row = [i]
    for (let j = 1; j <= word.length; j++) {
      const same = typed[i - 1] === word[j - 1] ? 0 : 1
      let least = Math.min(last[j]! + 1, row[j - 1]! + 1, last[j - 1]! + same)
      if (i > 1 && j > 1 && typed[i - 1] === word[j - 2] && typed[i - 2] === word[j - 1])
        least = Math.min(least, before[j - 2]! + 1)
      row.push(least)
    }
    ;[before, last] = [last, row]
  }
  return Math.min(...last)
}

/** Those that answer what was typed, the best first; names alike in that keep their order. */
export function ranked<T>(typed: string, all: readonly T[], name: (one: T) => string): T[] {
  return all
    .map((one) => ({ one, likeness: likeness(typed, name(one)) }))
    .filter((rated) => rated.likeness > 0)
    .sort((a, b) => b.likeness - a.likeness)
    .map(({ one }) => one)
}
