import { Box, Button, Checkbox, FormControlLabel, Typography } from '@mui/material'
import { useState } from 'react'
import { useMakePeer, useTryPeer } from '../api/flow'
import { DialogButton, Field } from '../parts/Forms'
import { Steps } from './Steps'

// MakePeer asks how another registry is reached, and keeps it once its test passes, or where
// somebody says so all the same.
export function MakePeer() {
  const [name, setName] = useState('')
  const [address, setAddress] = useState('')
  const [prefix, setPrefix] = useState('')
  const [account, setAccount] = useState('')
  const [secret, setSecret] = useState('')
  const [fingerprint, setFingerprint] = useState('')
  const [authority, setAuthority] = useState('')
  const [repository, setRepository] = useState('')
  const [push, setPush] = useState(false)
  const [plain, setPlain] = useState(false)
  const [failing, setFailing] = useState(false)
  const test = useTryPeer()
  const make = useMakePeer()
  const body = {
    name, address, ...(prefix && { prefix }), ...(account && { account, secret }), ...(fingerprint && { fingerprint }), ...(authority && { authority }),
    ...(plain && { unencrypted: true }), ...(repository && { repository }), push,
  }
  const tested = make.data && !make.data.kept ? make.data : test.data
  return (
    <DialogButton
      name="Make a peer" title="Make a peer" action={failing ? 'Keep it all the same' : 'Test it and keep it'} busy={make.isPending} error={make.error ?? test.error} ready={name !== '' && address !== ''}
      onDo={(close) => make.mutate({ ...body, failing }, { onSuccess: (made) => made.kept && close() })}
    >
      <Box sx={{ display: 'grid', gridTemplateColumns: '1fr 1fr', gap: 2 }}>
        <Field label="Name" value={name} onChange={setName} hint="small letters, digits and dashes" autoFocus />
        <Field label="Address" value={address} onChange={setAddress} hint="host, or host:port" />
        <Field label="Account there" value={account} onChange={setAccount} hint="nobody where it is left out" />
        <Field label="Its password or token" value={secret} onChange={setSecret} type="password" hint="kept encrypted, shown to nobody" />
        <Field label="Prefix" value={prefix} onChange={setPrefix} hint="stands before the names there" />
        <Field label="Repository to look at" value={repository} onChange={setRepository} hint="the first that it lists where it is left out" />
        <Field label="Fingerprint" value={fingerprint} onChange={setFingerprint} hint="SHA-256 of the one certificate that is believed" />
        <Field label="Authority" value={authority} onChange={setAuthority} hint="certificate in PEM form, besides the system’s" multiline />
      </Box>
      <Box>
        <FormControlLabel label="Also try a push, which leaves nothing behind" control={<Checkbox size="small" checked={push} onChange={(e) => setPush(e.target.checked)} />} />
        <FormControlLabel label="Speak plain HTTP: everybody on the way can read and change what passes" control={<Checkbox size="small" checked={plain} onChange={(e) => setPlain(e.target.checked)} />} />
      </Box>
      <Box><Button size="small" variant="outlined" disabled={test.isPending || name === '' || address === ''} onClick={() => test.mutate(body)}>{test.isPending ? 'Testing …' : 'Only test it'}</Button></Box>
      {tested && (
        <Box role="status">
          <Steps steps={tested.steps} />
          {tested.failed && (
            <>
              <Typography color="error" sx={{ mt: 1 }}>It is not kept: the test stopped at the step {tested.failed}.</Typography>
              <FormControlLabel label="Keep it though its test fails" control={<Checkbox size="small" checked={failing} onChange={(e) => setFailing(e.target.checked)} />} />
            </>
          )}
        </Box>
      )}
    </DialogButton>
  )
}
