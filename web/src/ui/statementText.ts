/** A part of a statement, with what it is where that is drawn. */
export interface Piece {
  text: string
  kind?: 'keyword' | 'string' | 'number' | 'comment'
}

/** Statements that are longer stay plain: nobody reads colours in them, and they cost time. */
const MOST_LETTERS = 50_000

const KINDS: Record<string, Piece['kind']> = {
  'hljs-keyword': 'keyword',
  'hljs-string': 'string',
  'hljs-number': 'number',
  'hljs-comment': 'comment',
}

/** Whether a remedy is said in words, and is nothing to run: “Upgrade the server to version 17 or later.” */
export function isSentence(text: string): boolean {
  return /^[A-Z][a-z]+\s[\s\S]*\.\s*$/.test(text)
}

/** A statement in pieces. The highlighter is loaded when the first statement is shown. */
export async function highlighted(text: string): Promise<Piece[]> {
  if (text.length > MOST_LETTERS) return [{ text }]
  const [{ default: highlighter }, { default: pgsql }] = await Promise.all([
    import('highlight.js/lib/core'),
    import('highlight.js/lib/languages/pgsql'),
  ])
  if (!highlighter.getLanguage('pgsql')) highlighter.registerLanguage('pgsql', pgsql)
  // It is parsed apart from the page: nothing in it is run or fetched.
  const { value } = highlighter.highlight(text, { language: 'pgsql', ignoreIllegals: true })
  const parsed = new DOMParser().parseFromString(`<pre>${value}</pre>`, 'text/html')
  const pieces: Piece[] = []
  const walk = (node: Node, kind: Piece['kind']): void => {
    if (node.nodeType === 3) {
      pieces.push({ text: node.textContent ?? '', kind })
      return
    }
    const own = (node as Element).classList?.[0]
    for (const child of node.childNodes) walk(child, KINDS[own ?? ''] ?? kind)
  }
  const root = parsed.querySelector('pre')
  if (root) walk(root, undefined)
  return pieces
}

/** A statement laid out in lines, or nothing where it cannot be. The formatter is loaded when it is first asked for. */
export async function laidOut(text: string): Promise<string | null> {
  const { formatDialect, postgresql } = await import('sql-formatter')
  try {
    // Literals that were left out stand as ?, of which the server itself makes $1.
    return formatDialect(text, {
      dialect: postgresql,
      keywordCase: 'preserve',
      paramTypes: { positional: true, numbered: ['$'] },
    })
  } catch {
    return null
  }
}
