import { Box } from '@mui/material'
import type { Seal } from '../api/tags'
import { Why } from '../parts/Why'

// ruleAddress is where the rule stands that decided, as far as it can be told.
function ruleAddress(repository: string, seal: Seal): string | undefined {
  if (!seal.of) return undefined
  const named = /^the list (\S+)/.exec(seal.of)
  if (named) return `/rules?list=${named[1]}`
  if (seal.of.startsWith('the repository')) return `/rules?place=${repository}`
  if (seal.of.startsWith('the namespace')) return `/rules?place=${repository.split('/')[0]}`
  return '/rules'
}

// SealMark says that a tag neither moves nor goes, and why.
export function SealMark({ repository, tag, seal }: { repository: string; tag: string; seal?: Seal | undefined }) {
  if (!seal) return null
  return (
    <Box component="span" sx={{ display: 'inline-flex', alignItems: 'baseline' }}>
      sealed
      <Why of={`${tag} is sealed`} tabIndex={-1} to={ruleAddress(repository, seal)} leads="To the rule">
        {tag} neither moves nor goes: {seal.why}.
      </Why>
    </Box>
  )
}
