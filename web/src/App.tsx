import { useQuery } from "@tanstack/react-query";
import { BrowserRouter, Navigate, Route, Routes } from "react-router";
import { getMe } from "./api/client";
import { LiveProvider } from "./api/live";
import { Frame } from "./parts/Frame";
import { Notice } from "./parts/Notice";
import { ToastProvider } from "./parts/toast";
import { KeysPage } from "./pages/keys/KeysPage";
import { NodePage } from "./pages/node/NodePage";
import { NodesPage } from "./pages/nodes/NodesPage";
import { SetupPage } from "./pages/setup/SetupPage";
import { RunPage } from "./pages/run/RunPage";
import { SignIn } from "./pages/sign-in/SignIn";
import { Watch } from "./pages/watch/Watch";

export function App() {
  const me = useQuery({ queryKey: ["me"], queryFn: getMe });
  if (me.isPending) {
    return <Notice title="One moment" text="Asking the service who you are …" />;
  }
  if (me.isError) {
    return <Notice title="The service does not answer" text={`${me.error.message} Reload the page to try again.`} />;
  }
  if (!me.data) {
    return <SignIn />;
  }
  return (
    <BrowserRouter>
      <ToastProvider>
        <LiveProvider>
          <Frame me={me.data}>
            <Routes>
              <Route path="/" element={<Watch me={me.data} />} />
              <Route path="/runs/:run" element={<RunPage me={me.data} />} />
              <Route path="/nodes" element={<NodesPage me={me.data} />} />
              <Route path="/nodes/:node" element={<NodePage me={me.data} />} />
              <Route path="/keys" element={<KeysPage me={me.data} />} />
              <Route path="/setup" element={<SetupPage me={me.data} />} />
              <Route path="*" element={<Navigate to="/" replace />} />
            </Routes>
          </Frame>
        </LiveProvider>
      </ToastProvider>
    </BrowserRouter>
  );
}
