import { Box, Button, Link, Paper, Typography } from '@mui/material'
import { type FormEvent, useEffect, useState } from 'react'
import { useService } from '../api/service'
import { useSignIn } from '../api/session'
import { Field, Said } from '../parts/Forms'

// SignIn is what somebody sees who has not signed in.
export function SignIn({ onLook }: { onLook?: () => void }) {
  const [account, setAccount] = useState('')
  const [password, setPassword] = useState('')
  const service = useService()
  const signIn = useSignIn()
  useEffect(() => {
    document.title = 'Sign in · Warthesis'
  }, [])
  const refused = new URLSearchParams(location.search).get('refused')
  const submit = (e: FormEvent) => {
    e.preventDefault()
    signIn.mutate({ account, password })
  }
  const company = service.data?.company
  return (
    <Box sx={{ maxWidth: 400, mx: 'auto', pt: 10, px: 2 }}>
      <Typography variant="h1" sx={{ mb: 0.5 }}>
        Sign in
      </Typography>
      <Typography color="textSecondary" sx={{ mb: 2.5 }}>
        to the registry at {service.data?.address ?? '…'}
      </Typography>
      <Paper sx={{ p: 3 }}>
        {company && (
          <>
            <Button
              fullWidth variant="contained" disableElevation
              href={`/api/company/begin?to=${encodeURIComponent(location.pathname)}`}
            >
              {company}
            </Button>
            <Typography color="textSecondary" sx={{ textAlign: 'center', my: 1.5 }}>
              or with an account of the registry
            </Typography>
          </>
        )}
        <Box component="form" onSubmit={submit} sx={{ display: 'grid', gap: 2 }}>
          <Field label="Account" value={account} onChange={setAccount} autoFocus />
          <Field label="Password" value={password} onChange={setPassword} type="password" />
          <Said error={signIn.error ?? (refused ? new Error(refused) : null)} />
          <Button type="submit" variant={company ? 'outlined' : 'contained'} disableElevation disabled={signIn.isPending || account === '' || password === ''}>
            Sign in
          </Button>
        </Box>
      </Paper>
      {onLook && (
        <Typography sx={{ mt: 2 }}>
          <Link component="button" type="button" onClick={onLook}>
            Look at what anybody may pull
          </Link>
        </Typography>
      )}
    </Box>
  )
}
