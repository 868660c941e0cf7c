import 'antd/dist/reset.css'
import '@fontsource-variable/commissioner'
import '@fontsource/spline-sans-mono/400.css'
import '@fontsource/spline-sans-mono/600.css'
import './index.css'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { Provider } from 'react-redux'
import { App } from './App.tsx'
import { listen } from './live/live.ts'
import { store } from './store.ts'

listen(store)
const root = document.getElementById('root')
if (root)
  createRoot(root).render(
    <StrictMode>
      <Provider store={store}>
        <App />
      </Provider>
    </StrictMode>,
  )
