import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { createBrowserRouter, Route, RouterProvider, Routes } from "react-router";
import { getMe, signedOut } from "./api/client";
import { LiveProvider } from "./api/live";
import { HandsPage } from "./pages/hands/HandsPage";
import { KeysPage } from "./pages/keys/KeysPage";
import { LostPage } from "./pages/lost/LostPage";
import { NightPage } from "./pages/night/NightPage";
import { NodePage } from "./pages/node/NodePage";
import { NodesPage } from "./pages/nodes/NodesPage";
import { NoticesPage } from "./pages/notices/NoticesPage";
import { QueuePage } from "./pages/queue/QueuePage";
import { RunPage } from "./pages/run/RunPage";
import { RecipePage } from "./pages/setup/RecipePage";
import { SetupPage } from "./pages/setup/SetupPage";
import { SignIn } from "./pages/sign-in/SignIn";
import { SubmitPage } from "./pages/submit/SubmitPage";
import { TroublePage } from "./pages/trouble/TroublePage";
import { Watch } from "./pages/watch/Watch";
import { Frame } from "./parts/Frame";
import { Waits } from "./parts/Notice";
import { ScrollKeeper } from "./parts/ScrollKeeper";
import { ToastProvider } from "./parts/toast";

/** One route for all pages: it lets a page ask before it is left. */
const router = createBrowserRouter([{ path: "*", element: <Pages /> }]);

export function App() {
  const queries = useQueryClient();
  const [ended, setEnded] = useState(false);
  const me = useQuery({ queryKey: ["me"], queryFn: getMe });
  const known = Boolean(me.data);
  useEffect(() => {
    const out = () => {
      setEnded((before) => before || known); // several requests may learn it, one after the other
      queries.setQueryData(["me"], null);
    };
    window.addEventListener(signedOut, out);
    return () => window.removeEventListener(signedOut, out);
  }, [queries, known]);
  useEffect(() => {
    if (known) setEnded(false);
  }, [known]);
  if (me.isPending) {
    return <Waits query={me} what="Asking the service who you are …" />;
  }
  if (!me.data) {
    return <SignIn ended={ended} />;
  }
  return <RouterProvider router={router} />;
}

function Pages() {
  const me = useQuery({ queryKey: ["me"], queryFn: getMe });
  if (!me.data) {
    return null; // signed out: the sign-in takes its place
  }
  return (
    <>
      <ScrollKeeper />
      <ToastProvider>
        <LiveProvider>
          <Frame me={me.data}>
            <Routes>
              <Route path="/" element={<Watch me={me.data} />} />
              <Route path="/queue" element={<QueuePage me={me.data} />} />
              <Route path="/hands" element={<HandsPage />} />
              <Route path="/notices" element={<NoticesPage me={me.data} />} />
              <Route path="/night" element={<NightPage />} />
              <Route path="/trouble" element={<TroublePage me={me.data} />} />
              <Route path="/submit" element={<SubmitPage me={me.data} />} />
              <Route path="/runs/:run" element={<RunPage me={me.data} />} />
              <Route path="/nodes" element={<NodesPage me={me.data} />} />
              <Route path="/nodes/:node" element={<NodePage me={me.data} />} />
              <Route path="/keys" element={<KeysPage me={me.data} />} />
              <Route path="/setup" element={<SetupPage me={me.data} />} />
              <Route path="/setup/new-recipe" element={<RecipePage key="new" me={me.data} />} />
              <Route path="/setup/recipes/:recipe" element={<RecipePage me={me.data} />} />
              <Route path="*" element={<LostPage />} />
            </Routes>
          </Frame>
        </LiveProvider>
      </ToastProvider>
    </>
  );
}
