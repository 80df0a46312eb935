import { QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, RouterProvider } from "react-router";
import { Asking } from "./api/asking";
import { App } from "./app";
import "./styles.css";

const client = new Asking({
  defaultOptions: { queries: { retry: false, staleTime: 5_000, refetchOnWindowFocus: true } },
});

// one route for all: the application has its own within, and a page may ask before it is left
const router = createBrowserRouter([{ path: "*", element: <App /> }]);
const root = document.getElementById("root");
if (root)
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={client}>
        <RouterProvider router={router} />
      </QueryClientProvider>
    </StrictMode>,
  );
