import { Box, useTheme } from '@mui/material'
import { useNavigate } from 'react-router'
import type { Follow, Peer } from '../api/flow'
import { Section } from '../parts/Forms'

const [wide, boxWide, boxHigh, gap] = [1000, 220, 46, 14]

// most is how many peers are drawn; all of them are in the table.
const most = 12

// FlowMap draws this registry, its peers, and what goes which way between them.
export function FlowMap({ peers, follows }: { peers: Peer[]; follows: Follow[] }) {
  const palette = useTheme().vars!.palette
  const go = useNavigate()
  const drawn = peers.slice(0, most)
  const high = Math.max(1, drawn.length) * (boxHigh + gap) + gap
  const here = { x: 0, y: high / 2 - boxHigh / 2 }
  const at = (i: number) => ({ x: wide - boxWide, y: gap + i * (boxHigh + gap) })
  const by = (name: string) => follows.filter((f) => f.sources.some((s) => s.peer === name)).map((f) => f.namespace)
  const words = drawn.map((p) => `${p.name}${p.failed ? ' (does not answer well)' : ''}: ${by(p.name).length > 0 ? `${by(p.name).join(', ')} ${by(p.name).length === 1 ? 'takes' : 'take'} from it` : 'nothing goes'}`).join('; ')
  return (
    <Section title="What goes where">
      <Box component="svg" viewBox={`-2 -2 ${wide + 4} ${high + 4}`} role="img" aria-label={words} sx={{ width: '100%', maxHeight: 360, display: 'block', fontSize: 15 }}>
        <defs>
          <marker id="flow-end" viewBox="0 0 10 10" refX="9" refY="5" markerWidth="8" markerHeight="8" orient="auto">
            <path d="M0 0 L10 5 L0 10 z" fill={palette.primary.main} />
          </marker>
        </defs>
        {drawn.map((p, i) => {
          const to = at(i)
          const names = by(p.name)
          const [fromX, fromY, toX, toY] = [to.x, to.y + boxHigh / 2, here.x + boxWide, here.y + boxHigh / 2]
          const [midX, midY] = [(fromX + toX) / 2, fromY + (toY - fromY) * 0.42]
          const label = names.length > 3 ? `${names.slice(0, 3).join(', ')} and ${names.length - 3} more` : names.join(', ')
          return (
            <g key={p.name}>
              {names.length > 0 && (
                <>
                  <path
                    d={`M${fromX} ${fromY} C${fromX - 160} ${fromY}, ${toX + 160} ${toY}, ${toX} ${toY}`} fill="none" stroke={p.failed ? palette.error.main : palette.primary.main} strokeWidth={2}
                    strokeDasharray={p.failed ? '6 5' : undefined} markerEnd="url(#flow-end)"
                  />
                  <text x={midX} y={midY - 8} textAnchor="middle" fill={palette.text.primary} stroke={palette.background.paper} strokeWidth={5} paintOrder="stroke">{label}</text>
                </>
              )}
              <g onClick={() => void go(`/peer/${p.name}`)} style={{ cursor: 'pointer' }}>
                <rect x={to.x} y={to.y} width={boxWide} height={boxHigh} rx={6} fill={palette.background.paper} stroke={p.failed ? palette.error.main : palette.divider} strokeWidth={p.failed ? 2 : 1} />
                <text x={to.x + 12} y={to.y + 20} fontWeight={600} fill={palette.text.primary}>{p.name}</text>
                <text x={to.x + 12} y={to.y + 37} fontSize={12.5} fill={p.failed ? palette.error.main : palette.text.secondary}>{p.failed ? `stopped at the step ${p.failed}` : p.address.slice(0, 30)}</text>
              </g>
            </g>
          )
        })}
        <rect x={here.x} y={here.y} width={boxWide} height={boxHigh} rx={6} fill={palette.primary.main} />
        <text x={here.x + 12} y={here.y + 20} fontWeight={600} fill={palette.primary.contrastText}>this registry</text>
        <text x={here.x + 12} y={here.y + 37} fontSize={12.5} fill={palette.primary.contrastText}>{location.host.slice(0, 30)}</text>
      </Box>
      {peers.length > most && <Box sx={{ color: 'text.secondary' }}>and {peers.length - most} peers more, which are listed below</Box>}
    </Section>
  )
}
