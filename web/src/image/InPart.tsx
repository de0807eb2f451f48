import { Box, Typography } from '@mui/material'
import { Why } from '../parts/Why'

// InPart says that an image came in part from a peer, and that the rest comes when it is pulled.
export function InPart({ of, missing, tabIndex = 0 }: { of: string; missing?: number | undefined; tabIndex?: number }) {
  if (!missing) return null
  return (
    <Box component="span" sx={{ display: 'inline-flex', alignItems: 'baseline', whiteSpace: 'nowrap', ml: 1 }}>
      <Typography component="span" variant="body2" color="textSecondary">in part</Typography>
      <Why of={`${of} is here in part`} tabIndex={tabIndex}>
        {missing === 1 ? '1 blob or manifest' : `${missing.toLocaleString('en')} blobs and manifests`} of {of} {missing === 1 ? 'is' : 'are'} not here yet: its namespace follows a peer, from which the rest comes when somebody pulls it.
      </Why>
    </Box>
  )
}
