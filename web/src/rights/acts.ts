import type { Line } from '../api/audit'

// Act is one thing that somebody did: a push is one, with all that it brought.
export interface Act {
  key: string
  // line tells of it as a whole; of a push it is the last that came.
  line: Line
  // inside are the lines that it is made of, the last first; one for most acts.
  inside: Line[]
}

// What a push writes into the log.
const pushed = new Set(['manifest-pushed', 'tag-moved', 'repository-made', 'namespace-made'])

// together is how long after each other two lines of one push are, in milliseconds.
const together = 60_000

const isPush = (act: Act) => act.inside.some((l) => l.kind === 'manifest-pushed' || l.kind === 'tag-moved')

function belongs(act: Act, l: Line): boolean {
  const last = act.inside.at(-1)!
  if (l.verdict !== 'done' || last.verdict !== 'done' || !pushed.has(l.kind) || !pushed.has(last.kind)) return false
  const same = l.account === last.account && l.token === last.token && l.address === last.address
  // A namespace is made by a push to what is in it.
  const here = l.kind === 'namespace-made' ? l.subject === `namespace ${last.repository?.split('/')[0]}` : l.repository === last.repository
  // The log is read backwards: what comes later in the list happened earlier. A tag that
  // comes after all manifests of another act begins that one.
  const begins = l.kind === 'tag-moved' && last.kind !== 'tag-moved'
  return same && here && !begins && new Date(last.at).getTime() - new Date(l.at).getTime() < together
}

// actsOf gathers lines, the last first, to what was done by them.
export function actsOf(lines: Line[]): Act[] {
  const acts: Act[] = []
  for (const l of lines) {
    const act = acts.at(-1)
    if (act && belongs(act, l)) act.inside.push(l)
    else acts.push({ key: String(l.id), line: l, inside: [l] })
  }
  return acts
}

const count = (n: number, of: string) => (n === 1 ? `1 ${of}` : `${n} ${of}s`)

// whatOf says in a word what an act was.
export const whatOf = (act: Act) => (isPush(act) ? 'push' : act.line.kind.replaceAll('-', ' '))

// tagsOf returns the tags that a push moved, as they were given.
export const tagsOf = (act: Act) => act.inside.filter((l) => l.kind === 'tag-moved').map((l) => l.tag!).reverse()

// detailOf says what an act brought.
export function detailOf(act: Act): string {
  if (!isPush(act)) return act.line.detail ?? (act.line.digest ? act.line.digest.slice(7, 19) : '')
  const tags = tagsOf(act)
  const manifests = act.inside.filter((l) => l.kind === 'manifest-pushed').length
  const parts = []
  if (tags.length > 0) parts.push(tags.join(', '))
  if (manifests > 0) parts.push(count(manifests, 'manifest'))
  if (act.inside.some((l) => l.kind === 'repository-made')) parts.push('made the repository')
  if (act.inside.some((l) => l.kind === 'namespace-made')) parts.push('made the namespace')
  return parts.join(' · ')
}
