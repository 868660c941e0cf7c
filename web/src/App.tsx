import { App as AntApp, ConfigProvider } from 'antd'
import { useEffect } from 'react'
import { createBrowserRouter, RouterProvider } from 'react-router'
import { BrokenPage } from './looks/Boundary.tsx'
import { themeFor } from './looks/theme.ts'
import { useAppSelector } from './store.ts'
import { t } from './words/t.ts'

const Loading = () => <p className="soft page-message">{t('Loading')}</p>
const router = createBrowserRouter([
  {
    errorElement: <BrokenPage />,
    HydrateFallback: Loading,
    children: [
      { path: '/', lazy: async () => ({ Component: (await import('./bench/BenchPage.tsx')).BenchPage }) },
      { path: '/jobs/:id/:stage?', lazy: async () => ({ Component: (await import('./job/JobPage.tsx')).JobPage }) },
      { path: '/scanners/:id/:part?', lazy: async () => ({ Component: (await import('./scanners/ScannerPage.tsx')).ScannerPage }) },
      { path: '/live/:id', lazy: async () => ({ Component: (await import('./stages/capture/LivePage.tsx')).LivePage }) },
      { path: '*', lazy: async () => ({ Component: (await import('./bench/NotHere.tsx')).NotHere }) },
    ],
  },
])

export function App() {
  const evening = useAppSelector((s) => s.view.evening)
  useEffect(() => {
    document.documentElement.dataset['evening'] = evening ? 'yes' : 'no'
    localStorage.setItem('oak.evening', evening ? 'yes' : 'no')
  }, [evening])
  return (
    <ConfigProvider theme={themeFor(evening)} wave={{ disabled: true }}>
      <AntApp component={false}>
        <RouterProvider router={router} />
      </AntApp>
    </ConfigProvider>
  )
}
