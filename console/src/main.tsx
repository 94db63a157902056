import { QueryCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { setNonce } from "get-nonce";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { RouterProvider } from "react-router";
import { Problem } from "~/api/client";
import { router } from "~/app/routes";
import { showTheme } from "~/app/theme";
import "./styles.css";

// Dialogs and menus insert a style element, which the page's policy allows with its nonce alone.
setNonce(document.querySelector<HTMLMetaElement>("meta[property=csp-nonce]")?.nonce ?? "");
showTheme();

// Whose session has ended is led to the sign-in, and back to the same page.
const cache: QueryClient = new QueryClient({
  queryCache: new QueryCache({
    onError: (problem) => {
      if (problem instanceof Problem && problem.status === 401) void cache.invalidateQueries({ queryKey: ["session"] });
    },
  }),
  defaultOptions: {
    queries: {
      staleTime: 20_000,
      refetchOnWindowFocus: false,
      retry: (count, problem) =>
        problem instanceof Problem && problem.status > 0 && problem.status < 500 ? false : count < 3,
    },
  },
});

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={cache}>
      <RouterProvider router={router} />
    </QueryClientProvider>
  </StrictMode>,
);
