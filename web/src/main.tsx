import "@fontsource-variable/source-sans-3";
import "./app.css";
import { StyleProvider } from "@ant-design/cssinjs";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { ConfigProvider } from "antd";
import { type ComponentType, StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { Problem } from "./api/client";
import { Router } from "./router";
import { useTheme } from "./theme";

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 2000,
      // A problem the service told stays one; a service that is restarting comes back.
      retry: (count, error) => !(error instanceof Problem && error.status > 0 && error.status < 500) && count < 5,
    },
  },
});

function App({ first }: { first: ComponentType | undefined }) {
  return (
    <StyleProvider layer>
      <ConfigProvider theme={useTheme()} wave={{ disabled: true }}>
        <QueryClientProvider client={queries}>
          <Router first={first} />
        </QueryClientProvider>
      </ConfigProvider>
    </StyleProvider>
  );
}

// The service says times in the person's zone; streams of events carry no header of ours.
// biome-ignore lint/suspicious/noDocumentCookie: it is not a secret, and the newer interface is not everywhere
document.cookie = `zone=${encodeURIComponent(Intl.DateTimeFormat().resolvedOptions().timeZone)}; Path=/; SameSite=Strict; Max-Age=31536000`;

/** start draws the console; first is the page where somebody begins. */
export function start(first: ComponentType | undefined) {
  createRoot(document.getElementById("root")!).render(
    <StrictMode>
      <App first={first} />
    </StrictMode>,
  );
}
