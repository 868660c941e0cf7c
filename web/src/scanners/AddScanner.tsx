import { Input, Modal } from 'antd'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { problemOf, useAddScannerMutation } from '../api.ts'
import { ProblemBox } from '../looks/ProblemBox.tsx'
import { t } from '../words/t.ts'

/** A scanner says itself what it is; only where it is must be said. */
export function AddScanner({ onClose }: { onClose(): void }) {
  const [address, setAddress] = useState('')
  const [add, { error, isLoading }] = useAddScannerMutation()
  const go = useNavigate()
  const problem = problemOf(error)
  const submit = async () => {
    const r = await add({ address })
    if (r.data) void go(`/scanners/${r.data.id}`)
  }
  return (
    <Modal
      open
      title={t('Where does the scanner answer?')}
      okText={t('Connect')}
      cancelText={t('Cancel')}
      onCancel={onClose}
      onOk={() => void submit()}
      confirmLoading={isLoading}
      okButtonProps={{ disabled: !address.trim() }}
    >
      <form
        className="stack"
        onSubmit={(e) => {
          e.preventDefault()
          void submit()
        }}
      >
        <label htmlFor="scanner-address">{t('Address of the scanner or its bridge')}</label>
        <Input id="scanner-address" autoFocus value={address} placeholder="ws://192.168.1.20:4190" onChange={(e) => setAddress(e.target.value)} />
        <span className="hint">{t('It must speak the scanner link of docs/scanner-link.md; ./oak link-check tells whether it does.')}</span>
      </form>
      {problem && <ProblemBox problem={problem} />}
    </Modal>
  )
}
