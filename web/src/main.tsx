import "@fontsource-variable/archivo";
import "@fontsource-variable/jetbrains-mono";
import "./theme.css";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { App } from "./App";
import { Problem } from "./api/client";

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      networkMode: "always", // a farm needs no network beyond its own
      refetchOnWindowFocus: false,
      // What the service refuses stays refused; all else is tried until it is there.
      retry: (_, error) => !(error instanceof Problem && error.status < 500),
      retryDelay: (failures) => Math.min(500 * 2 ** failures, 3000),
    },
    mutations: { networkMode: "always" },
  },
});

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <App />
    </QueryClientProvider>
  </StrictMode>,
);
