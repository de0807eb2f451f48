import { Box, Tooltip } from '@mui/material'
import type { Schemas } from '../api/client'
import { sizeText } from './Amounts'
import { shorten } from './Digest'

// Ten calm tones that stay apart in lightness or in blue against yellow.
const tones = ['#2F5D9B', '#C99A2E', '#6E93C4', '#8A6514', '#9DB9DB', '#E0C06C', '#43618A', '#B08A3A', '#587FB8', '#D3AE4C']

const digits = (digest: string, from: number) => parseInt(digest.slice(digest.indexOf(':') + 1 + from, digest.indexOf(':') + 9 + from), 16)

// lightness is how light a tone is, 0 to 1, and isBlue its family.
const lightness = (tone: string) => [1, 3, 5].reduce((sum, at, i) => sum + [0.21, 0.72, 0.07][i]! * (parseInt(tone.slice(at, at + 2), 16) / 255), 0)
const isBlue = (tone: string) => parseInt(tone.slice(5), 16) > parseInt(tone.slice(1, 3), 16)

// apart reports whether two tones are told apart side by side.
const apart = (a: string, b: string) => isBlue(a) !== isBlue(b) || Math.abs(lightness(a) - lightness(b)) > 0.15

// tonesOf gives layers their colours, by digest: a layer has the same in every image,
// but where it could not be told from the one before it.
export function tonesOf(layers: { digest: string }[]): string[] {
  const given: string[] = []
  for (const { digest } of layers) {
    let at = digits(digest, 0) % tones.length
    const before = given.at(-1)
    for (let tries = 0; before && !apart(before, tones[at]!) && tries < tones.length; tries++) at = (at + 1 + (digits(digest, 8) % 3)) % tones.length
    given.push(tones[at]!)
  }
  return given
}

const hatch = 'repeating-linear-gradient(45deg, transparent 0 5px, rgba(255,255,255,.38) 5px 7px)'

type Layer = Schemas['Layer']

interface Segment {
  key: string
  bytes: number
  layers: Layer[]
  tone: string
}

// segmentsOf gathers neighbours that would be too narrow to see.
function segmentsOf(layers: Layer[], total: number): Segment[] {
  const segments: Segment[] = []
  const colours = tonesOf(layers)
  for (const [i, l] of layers.entries()) {
    const small = l.size < total * 0.015
    const before = segments.at(-1)
    if (small && before?.layers.every((o) => o.size < total * 0.015)) {
      before.layers.push(l)
      before.bytes += l.size
      continue
    }
    segments.push({ key: `${segments.length}${l.digest}`, bytes: l.size, layers: [l], tone: colours[i]! })
  }
  return segments
}

function describe({ layers, bytes }: Segment): string {
  const only = layers[0]!
  if (layers.length > 1) return `${layers.length} small layers, ${sizeText(bytes)}`
  const shared = only.repositories > 1 ? `, shared by ${only.repositories} repositories` : ''
  return `${only.step || 'layer'} · ${shorten(only.digest)}, ${sizeText(bytes)}${shared}`
}

// LayerBar draws the layers of one platform by their compressed size; layers that
// other repositories hold too are hatched.
export function LayerBar({ layers, most }: { layers: Layer[]; most: number }) {
  const total = layers.reduce((sum, l) => sum + l.size, 0)
  return (
    <Box role="list" aria-label="Layers by compressed size" sx={{ display: 'flex', gap: '1px', height: 28, width: `${Math.max(4, (100 * total) / Math.max(1, most))}%` }}>
      {segmentsOf(layers, total).map((s) => {
        const only = s.layers.length === 1 ? s.layers[0]! : undefined
        return (
          <Tooltip key={s.key} title={describe(s)}>
            <Box
              role="listitem"
              tabIndex={0}
              aria-label={describe(s)}
              sx={{
                flexGrow: s.bytes, flexBasis: 0, minWidth: 6, borderRadius: '2px',
                bgcolor: only ? s.tone : 'text.secondary',
                backgroundImage: only && only.repositories > 1 ? hatch : 'none',
              }}
            />
          </Tooltip>
        )
      })}
    </Box>
  )
}
