import '@ant-design/v5-patch-for-react-19'
import '@fontsource-variable/bricolage-grotesque'
import '@fontsource-variable/hanken-grotesk'
import '@fontsource-variable/jetbrains-mono'
import './theme/base.css'
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { App as AntApp, ConfigProvider } from 'antd'
import { StrictMode, useEffect } from 'react'
import { createRoot } from 'react-dom/client'
import { Bench } from './bench/Bench'
import { Stumbled } from './shared/Stumbled'
import { usePlace } from './shared/place'
import { useMode } from './theme/mode'
import { antTheme } from './theme/tokens'
import { Start } from './start/Start'

const queries = new QueryClient({
  defaultOptions: { queries: { retry: 1, refetchOnWindowFocus: false } },
})

function Pages() {
  const place = usePlace()
  const project = /^\/project\/([\w-]+)$/.exec(place)?.[1]
  return project ? <Bench key={project} id={project} /> : <Start />
}

function Root() {
  const { mode } = useMode()
  // Questions asked from outside the tree look like everything else.
  useEffect(() => {
    ConfigProvider.config({
      holderRender: (children) => (
        <ConfigProvider theme={antTheme(mode)}>{children}</ConfigProvider>
      ),
    })
  }, [mode])
  return (
    <ConfigProvider theme={antTheme(mode)}>
      <AntApp component={false} message={{ maxCount: 3 }}>
        <Stumbled>
          <Pages />
        </Stumbled>
      </AntApp>
    </ConfigProvider>
  )
}

const root = document.getElementById('root')
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <Root />
      </QueryClientProvider>
    </StrictMode>,
  )
}
