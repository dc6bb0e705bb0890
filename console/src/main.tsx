import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { App as AntApp, ConfigProvider } from "antd";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { Problem } from "./api/client";
import { Frame } from "./Frame";
import "./style.css";
import { themeFor, useDark } from "./theme";

const queries = new QueryClient({
  defaultOptions: {
    queries: { staleTime: 60_000, retry: (n, e) => n < 3 && !(e instanceof Problem && e.status >= 400 && e.status < 500) },
  },
});

function Root() {
  const dark = useDark();
  return (
    <ConfigProvider theme={themeFor(dark)}>
      <AntApp>
        <QueryClientProvider client={queries}>
          <BrowserRouter>
            <Frame />
          </BrowserRouter>
        </QueryClientProvider>
      </AntApp>
    </ConfigProvider>
  );
}

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <Root />
  </StrictMode>,
);
