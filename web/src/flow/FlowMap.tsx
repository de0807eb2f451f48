import { Box, useTheme } from '@mui/material'
import { useNavigate } from 'react-router'
import type { Follow, Peer } from '../api/flow'
import type { Replication } from '../api/replication'
import { Section } from '../parts/Forms'
import { behind, stateText, tone } from './words'

const [wide, boxWide, laneHigh, gap, hereHigh] = [1000, 200, 34, 14, 52]

// most is how many peers are drawn, mostLanes how many ways to each; all are in the tables.
const [most, mostLanes] = [10, 6]

interface Lane {
  key: string
  // out goes from this registry to the peer.
  out: boolean
  words: string
  says: string
  tone: 'primary' | 'warning' | 'error'
  to: string
}

// lanesOf are the ways between this registry and a peer.
function lanesOf(peer: Peer, follows: Follow[], rules: Replication[]): Lane[] {
  const namespaces = follows.filter((f) => f.sources.some((s) => s.peer === peer.name)).map((f) => f.namespace)
  const lanes: Lane[] = rules.filter((r) => (r.to ?? r.from) === peer.name).map((r) => ({
    key: `rule ${r.name}`, out: r.to !== undefined, words: r.name ?? '', says: behind(r) || stateText(r), tone: tone(r.state), to: `/replication/${r.name}`,
  }))
  if (namespaces.length > 0) {
    const words = namespaces.length > 3 ? `${namespaces.slice(0, 3).join(', ')} and ${namespaces.length - 3} more` : namespaces.join(', ')
    lanes.push({ key: 'follow', out: false, words, says: namespaces.length === 1 ? 'follows it' : 'follow it', tone: peer.failed ? 'error' : 'primary', to: `/peer/${peer.name}` })
  }
  return lanes.slice(0, mostLanes)
}

// under is what stands below the name of a peer.
const under = (p: Peer) => (p.failed ? `stopped at the step ${p.failed}` : p.address.slice(0, 26))

// FlowMap draws this registry, its peers, and what goes which way between them: how far
// behind, in words and by colour.
export function FlowMap({ peers, follows, rules }: { peers: Peer[]; follows: Follow[]; rules: Replication[] }) {
  const palette = useTheme().vars!.palette
  const go = useNavigate()
  let top = gap
  const drawn = peers.slice(0, most).map((peer) => {
    const lanes = lanesOf(peer, follows, rules)
    const high = Math.max(hereHigh, lanes.length * laneHigh + 12)
    const at = top
    top += high + gap
    return { peer, lanes, y: at, high }
  })
  const all = drawn.reduce((n, d) => n + d.lanes.length, 0)
  const high = Math.max(hereHigh + all * 10, hereHigh)
  const here = Math.max(gap, top / 2 - high / 2)
  let lane = 0
  const words = drawn.map((d) => `${d.peer.name}${d.peer.failed ? ' (does not answer well)' : ''}: ${d.lanes.length > 0 ? d.lanes.map((l) => `${l.words} ${l.out ? 'to it' : 'from it'}, ${l.says}`).join('; ') : 'nothing goes'}`).join('. ')
  const press = (to: string) => ({
    onClick: () => void go(to), role: 'link', tabIndex: 0, style: { cursor: 'pointer' },
    onKeyDown: (e: React.KeyboardEvent) => { if (e.key === 'Enter') void go(to) },
  })
  return (
    <Section title="What goes where">
      <Box component="svg" viewBox={`-2 -2 ${wide + 4} ${Math.max(top, here + high + gap) + 4}`} role="group" aria-label={words} sx={{ width: '100%', maxHeight: 420, display: 'block', fontSize: 15 }}>
        <defs>
          {(['primary', 'warning', 'error'] as const).map((t) => (
            <marker key={t} id={`flow-end-${t}`} viewBox="0 0 10 10" refX="9" refY="5" markerWidth="7" markerHeight="7" orient="auto-start-reverse">
              <path d="M0 0 L10 5 L0 10 z" fill={palette[t].main} />
            </marker>
          ))}
        </defs>
        {drawn.map(({ peer: p, lanes, y, high: tall }) => (
          <g key={p.name}>
            {lanes.map((l, i) => {
              const at = y + 6 + (i + 0.5) * ((tall - 12) / lanes.length) + 6
              const from = here + ((lane++ + 0.5) * high) / Math.max(1, all)
              const [x0, x1] = [boxWide, wide - boxWide]
              return (
                <g key={l.key} {...press(l.to)} aria-label={`${l.words} · ${l.says}, ${l.out ? 'to' : 'from'} ${p.name}`}>
                  <path
                    d={`M${x0} ${from} C${x0 + 130} ${from}, ${x0 + 60} ${at}, ${x0 + 190} ${at} L${x1} ${at}`} fill="none" stroke={palette[l.tone].main} strokeWidth={2}
                    strokeDasharray={l.tone === 'error' ? '6 5' : undefined} {...(l.out ? { markerEnd: `url(#flow-end-${l.tone})` } : { markerStart: `url(#flow-end-${l.tone})` })}
                  />
                  <text x={x1 - 16} y={at - 7} textAnchor="end" fill={palette.text.primary} stroke={palette.background.paper} strokeWidth={4} paintOrder="stroke">
                    <tspan fontWeight={600}>{l.words}</tspan>
                    <tspan fill={l.tone === 'primary' ? palette.text.secondary : palette[l.tone].main}> · {l.says}</tspan>
                  </text>
                </g>
              )
            })}
            <g {...press(`/peer/${p.name}`)}>
              <rect x={wide - boxWide} y={y} width={boxWide} height={tall} rx={6} fill={palette.background.paper} stroke={p.failed ? palette.error.main : palette.text.secondary} strokeWidth={p.failed ? 2 : 1} />
              <text y={y + tall / 2 - 3}>
                <tspan x={wide - boxWide + 14} fontWeight={600} fill={palette.text.primary}>{p.name}</tspan>{' '}
                <tspan x={wide - boxWide + 14} dy={18} fontSize={12.5} fill={p.failed ? palette.error.main : palette.text.secondary}>{under(p)}</tspan>
              </text>
            </g>
          </g>
        ))}
        <rect x={0} y={here} width={boxWide} height={high} rx={6} fill={palette.primary.main} />
        <text x={14} y={here + high / 2 - 3} fontWeight={600} fill={palette.primary.contrastText}>this registry</text>
        <text x={14} y={here + high / 2 + 15} fontSize={12.5} fill={palette.primary.contrastText}>{location.host.slice(0, 26)}</text>
      </Box>
      {peers.length > most && <Box sx={{ color: 'text.secondary' }}>and {peers.length - most} peers more, which are listed below</Box>}
    </Section>
  )
}
