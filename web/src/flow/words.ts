import type { Replication } from '../api/replication'

// spanText writes seconds as people say them.
export function spanText(seconds: number): string {
  if (seconds < 120) return `${seconds} s`
  if (seconds < 7200) return `${Math.floor(seconds / 60)} min`
  if (seconds < 172_800) return `${Math.floor(seconds / 3600)} h`
  return `${Math.floor(seconds / 86_400)} days`
}

const words: Record<Replication['state'], string> = {
  well: 'both sides have the same', going: 'is copying', behind: 'is behind', conflicts: 'both sides moved a tag', asks: 'removals wait for a word',
  failing: 'something does not travel', closed: 'waits for its hours', paused: 'is paused',
}

// stateText says how it stands with a rule.
export const stateText = (r: Replication) => (r.state === 'failing' && r.again_in !== undefined ? 'the peer does not answer as it should' : words[r.state])

// tone is how much a state matters: nothing is told by colour alone.
export const tone = (state: Replication['state']) => (state === 'failing' ? 'error' : state === 'conflicts' || state === 'asks' || state === 'behind' ? 'warning' : 'primary')

// behind says in a few words how far behind a rule is.
export function behind(r: Replication): string {
  const due = r.due + r.places
  const parts = [due > 0 ? `${due.toLocaleString('en')} due` : '', r.lag > 0 ? `${spanText(r.lag)} behind` : '', r.conflicting > 0 ? `${r.conflicting} in conflict` : '']
  return parts.filter(Boolean).join(', ')
}

export const whither = (r: { to?: string; from?: string }) => (r.to ? `to ${r.to}` : `from ${r.from ?? ''}`)
