import { MutationCache, QueryCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { Problem } from "./api/client";
import { Gate } from "./Gate";
import { ahead } from "./routes";
import { me } from "./service/session";
import "./style.css";

// Whatever is refused for want of a sign-in: who is signed in is asked anew, and
// the form comes. Where it is there already, it stays as it is.
const signedOut = (e: Error) => {
  if (e instanceof Problem && e.status === 401 && queries.getQueryData(["me"])) void queries.invalidateQueries({ queryKey: ["me"] });
};
const queries: QueryClient = new QueryClient({
  queryCache: new QueryCache({ onError: (e, q) => q.queryKey[0] !== "me" && signedOut(e) }),
  mutationCache: new MutationCache({ onError: signedOut }),
  defaultOptions: {
    queries: { staleTime: 60_000, retry: (n, e) => n < 3 && !(e instanceof Problem && e.status >= 400 && e.status < 500) },
  },
});

ahead(location.pathname, queries);
void queries.prefetchQuery(me);

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <BrowserRouter>
        <Gate />
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
);
