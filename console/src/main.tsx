import { MoonOutlined, SunOutlined } from "@ant-design/icons";
import { App, Button, ConfigProvider, Layout, Skeleton, theme } from "antd";
import { StrictMode, useEffect, useMemo, useState } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Link, Navigate, NavLink, Route, Routes } from "react-router";
import { QueryCache, QueryClient, QueryClientProvider, useQuery } from "@tanstack/react-query";
import { api, type Operator, Problem } from "./api";
import { Failed, Nothing } from "./parts";
import { queries } from "./queries";
import { loadTheRest } from "./later";
import { pages } from "./pages";
import { SessionContext } from "./session";
import { SignIn } from "./signin";
import "./style.css";

const nonce = document.querySelector<HTMLMetaElement>('meta[name="csp-nonce"]')?.content;

// The component library's dialogs add a style element of their own without the
// nonce that it is given for all others; the policy would drop it.
const createElement = document.createElement.bind(document);
document.createElement = (tag: string, options?: ElementCreationOptions) => {
  const element = createElement(tag, options);
  if (nonce && tag === "style") {
    element.nonce = nonce;
  }
  return element;
};

// An answer "nobody is signed in" to any request ends the session here as well.
const ended = new EventTarget();
const client = new QueryClient({
  queryCache: new QueryCache({
    onError: (e) => {
      if (e instanceof Problem && e.status === 401) {
        ended.dispatchEvent(new Event("ended"));
      }
    },
  }),
  defaultOptions: {
    queries: {
      // The service may well be on a network that does not reach further.
      networkMode: "always",
      retry: (n, e) => n < 2 && (!(e instanceof Problem) || e.status >= 500),
      staleTime: 2_000,
    },
  },
});

function Frame({
  operator,
  signedOut,
  dark,
  setDark,
}: {
  operator: Operator;
  signedOut: () => void;
  dark: boolean;
  setDark: (d: boolean) => void;
}) {
  const session = useMemo(() => ({ operator, signedOut }), [operator, signedOut]);
  useEffect(() => loadTheRest(client), []);
  const leave = () => void api.signOut().finally(signedOut);
  return (
    <SessionContext value={session}>
      <Layout className="frame">
        <header>
          <Link to="/" className="brand">
            Plum Latch
          </Link>
          <nav>
            <NavLink to="/today">Today</NavLink>
            <NavLink to="/instances">Instances</NavLink>
            <NavLink to="/keys">Keys</NavLink>
            <NavLink to="/map">Access map</NavLink>
            <NavLink to="/check">Key files</NavLink>
            <NavLink to="/keybooks">Keybooks</NavLink>
            <NavLink to="/work">Work</NavLink>
            <NavLink to="/shells">Shells</NavLink>
            <NavLink to="/journal">Journal</NavLink>
          </nav>
          <span className="who">
            <NavLink to="/people">
              {operator.name}, {operator.role}
            </NavLink>
          </span>
          <Button
            type="text"
            aria-label={dark ? "Light colours" : "Dark colours"}
            icon={dark ? <SunOutlined /> : <MoonOutlined />}
            onClick={() => setDark(!dark)}
          />
          <Button type="text" onClick={leave}>
            Sign out
          </Button>
        </header>
        <main>
          <Routes>
            <Route path="/" element={<Navigate to="/today" replace />} />
            <Route path="/today" element={<pages.Today />} />
            <Route path="/access" element={<pages.Access />} />
            <Route path="/map" element={<pages.Map />} />
            <Route path="/keybooks" element={<pages.Books />} />
            <Route path="/journal" element={<pages.Journal />} />
            <Route path="/keys" element={<pages.Keys />} />
            <Route path="/keys/:name" element={<pages.Key />} />
            <Route path="/cloud-keys" element={<pages.CloudKeys />} />
            <Route path="/create" element={<pages.Create />} />
            <Route path="/check" element={<pages.Check />} />
            <Route path="/instances" element={<pages.Instances />} />
            <Route path="/instances/:name" element={<pages.Instance />} />
            <Route path="/instances/:name/why" element={<pages.Why />} />
            <Route path="/instances/:name/restore" element={<pages.Restore />} />
            <Route path="/work/:id/report" element={<pages.Report />} />
            <Route path="/instances/:name/rotate" element={<pages.Rotate />} />
            <Route path="/rotate" element={<pages.RotateMany />} />
            <Route path="/keys/:name/exposed" element={<pages.Exposed />} />
            <Route path="/shells" element={<pages.Shells />} />
            <Route path="/work" element={<pages.WorkList />} />
            <Route path="/work/:id" element={<pages.Work />} />
            <Route path="/people" element={<pages.People />} />
            <Route path="/launch" element={<pages.Launch />} />
            <Route path="/adopt" element={<pages.Adopt />} />
            <Route path="*" element={<Nothing>There is no such page.</Nothing>} />
          </Routes>
        </main>
      </Layout>
    </SessionContext>
  );
}

function Console({ dark, setDark }: { dark: boolean; setDark: (d: boolean) => void }) {
  const [operator, setOperator] = useState<Operator | null | undefined>();
  const first = useQuery(queries.session());
  const signedOut = useMemo(
    () => () => {
      client.clear();
      setOperator(null);
    },
    [],
  );
  useEffect(() => {
    ended.addEventListener("ended", signedOut);
    return () => ended.removeEventListener("ended", signedOut);
  }, [signedOut]);
  const now = operator === undefined ? first.data : operator;
  if (now) {
    return <Frame operator={now} signedOut={signedOut} dark={dark} setDark={setDark} />;
  }
  if (now === null) {
    return <SignIn done={setOperator} />;
  }
  return (
    <main className="sign-in">
      {first.error ? (
        <Failed error={first.error} retry={() => void first.refetch()} />
      ) : (
        <Skeleton active />
      )}
    </main>
  );
}

function Themed() {
  const [dark, setDark] = useState(() => matchMedia("(prefers-color-scheme: dark)").matches);
  useEffect(() => {
    document.documentElement.dataset.theme = dark ? "dark" : "light";
  }, [dark]);
  return (
    <ConfigProvider
      csp={{ nonce }}
      theme={{
        algorithm: dark ? theme.darkAlgorithm : theme.defaultAlgorithm,
        token: {
          motion: !matchMedia("(prefers-reduced-motion: reduce)").matches,
          colorPrimary: dark ? "#a4608f" : "#6b2a5b",
          colorLink: dark ? "#8fb4c4" : "#3f6a7d",
          colorWarning: dark ? "#d3a65a" : "#8a6016",
          colorInfo: "#3f6a7d",
          colorInfoBg: dark ? "#1d2a31" : "#e8eff2",
          colorInfoBorder: dark ? "#35505d" : "#b7c9d2",
          colorWarningBg: dark ? "#2e2617" : "#faf3e3",
          colorWarningBorder: dark ? "#5c4a22" : "#e0cb9c",
          colorBgLayout: dark ? "#17151a" : "#f6f3ee",
          colorBgContainer: dark ? "#201d24" : "#fffdf9",
          colorText: dark ? "#e9e4ea" : "#241f29",
          colorTextPlaceholder: dark ? "#a39aa8" : "#6d6673",
          colorTextDescription: dark ? "#a39aa8" : "#6d6673",
          colorTextTertiary: dark ? "#a39aa8" : "#6d6673",
          colorTextDisabled: dark ? "#a39aa8" : "#6d6673",
          colorError: dark ? "#f0887c" : "#b3261e",
          borderRadius: 3,
          fontSize: 14,
        },
      }}
    >
      <App>
        <Console dark={dark} setDark={setDark} />
      </App>
    </ConfigProvider>
  );
}

const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={client}>
        <BrowserRouter>
          <Themed />
        </BrowserRouter>
      </QueryClientProvider>
    </StrictMode>,
  );
}
