import { MoonOutlined, SunOutlined } from "@ant-design/icons";
import { App, Button, ConfigProvider, Layout, Skeleton, theme } from "antd";
import { StrictMode, useEffect, useMemo, useState } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Link, Navigate, NavLink, Route, Routes } from "react-router";
import { QueryCache, QueryClient, QueryClientProvider, useQuery } from "@tanstack/react-query";
import { AccessPage } from "./access";
import { api, type Operator, Problem } from "./api";
import { InstancePage, InstancesPage } from "./instances";
import { WhyPage } from "./why";
import { KeyPage, KeysPage } from "./keys";
import { LaunchPage } from "./launch";
import { JournalPage } from "./journal";
import { MapPage } from "./map";
import { Failed, Nothing } from "./parts";
import { ReportPage, RestorePage } from "./restore";
import { RotatePage } from "./rotation";
import { ExposedPage, RotateManyPage } from "./waves";
import { SessionContext } from "./session";
import { SignIn } from "./signin";
import { TodayPage } from "./today";
import { CheckPage, CreatePage } from "./workbench";
import { WorkListPage, WorkPage } from "./work";
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
            <NavLink to="/work">Work</NavLink>
            <NavLink to="/journal">Journal</NavLink>
          </nav>
          <span className="who">
            {operator.name}, {operator.role}
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
            <Route path="/today" element={<TodayPage />} />
            <Route path="/access" element={<AccessPage />} />
            <Route path="/map" element={<MapPage />} />
            <Route path="/journal" element={<JournalPage />} />
            <Route path="/keys" element={<KeysPage />} />
            <Route path="/keys/:name" element={<KeyPage />} />
            <Route path="/create" element={<CreatePage />} />
            <Route path="/check" element={<CheckPage />} />
            <Route path="/instances" element={<InstancesPage />} />
            <Route path="/instances/:name" element={<InstancePage />} />
            <Route path="/instances/:name/why" element={<WhyPage />} />
            <Route path="/instances/:name/restore" element={<RestorePage />} />
            <Route path="/work/:id/report" element={<ReportPage />} />
            <Route path="/instances/:name/rotate" element={<RotatePage />} />
            <Route path="/rotate" element={<RotateManyPage />} />
            <Route path="/keys/:name/exposed" element={<ExposedPage />} />
            <Route path="/work" element={<WorkListPage />} />
            <Route path="/work/:id" element={<WorkPage />} />
            <Route path="/launch" element={<LaunchPage />} />
            <Route path="*" element={<Nothing>There is no such page.</Nothing>} />
          </Routes>
        </main>
      </Layout>
    </SessionContext>
  );
}

function Console({ dark, setDark }: { dark: boolean; setDark: (d: boolean) => void }) {
  const [operator, setOperator] = useState<Operator | null | undefined>();
  const first = useQuery({
    queryKey: ["session"],
    queryFn: () =>
      api.whoAmI().catch((e: unknown) => {
        if (e instanceof Problem && e.status === 401) {
          return null;
        }
        throw e;
      }),
    staleTime: Infinity,
  });
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
          colorWarning: "#a9792b",
          colorInfo: "#3f6a7d",
          colorInfoBg: dark ? "#1d2a31" : "#e8eff2",
          colorInfoBorder: dark ? "#35505d" : "#b7c9d2",
          colorWarningBg: dark ? "#2e2617" : "#faf3e3",
          colorWarningBorder: dark ? "#5c4a22" : "#e0cb9c",
          colorBgLayout: dark ? "#17151a" : "#f6f3ee",
          colorBgContainer: dark ? "#201d24" : "#fffdf9",
          colorText: dark ? "#e9e4ea" : "#241f29",
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
