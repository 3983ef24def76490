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
import { Route, Switch } from 'wouter'
import { ErrorBoundary } from './shared/ErrorBoundary'
import { useMode } from './theme/mode'
import { antTheme } from './theme/tokens'
import { Start } from './start/Start'

const queries = new QueryClient({
  defaultOptions: { queries: { retry: 1, refetchOnWindowFocus: false } },
})

function Pages() {
  return (
    <Switch>
      <Route path="/project/:id">{({ id }) => <Bench key={id} id={id} />}</Route>
      <Route>
        <Start />
      </Route>
    </Switch>
  )
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
        <ErrorBoundary>
          <Pages />
        </ErrorBoundary>
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
