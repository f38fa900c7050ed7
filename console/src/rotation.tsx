// Rotation of one instance's key: what it is before, and what it is after.
import { Alert, Button, Form, Input, Select } from "antd";
import { useState } from "react";
import { useNavigate, useParams, useSearchParams } from "react-router";
import { useMutation, useQuery } from "@tanstack/react-query";
import { api, type KeyBefore, type RotationPlan } from "./api";
import { KeyChoice } from "./choices";
import { Loaded, Mono, Title } from "./parts";
import { queries } from "./queries";
import { useMayChange } from "./session";

export const graces = [
  { value: 0, label: "none: it is withdrawn at once" },
  { value: 3600, label: "an hour" },
  { value: 86_400, label: "a day" },
  { value: 604_800, label: "a week" },
];

/** Two pages side by side: the door as it is, and as it will be. */
export function BeforeAfter({ plan }: { plan: RotationPlan }) {
  const changed = (k: KeyBefore) =>
    k.before === "" || k.after === "withdrawn" || k.after.includes("then withdrawn");
  const page = (title: string, word: (k: KeyBefore) => string, gone: (k: KeyBefore) => boolean) => (
    <section className="leaf">
      <h2>{title}</h2>
      <p className="quiet">
        {plan.instance}, as <code>{plan.login_user}</code>
      </p>
      <ul>
        {plan.keys.map((k) => (
          <li key={k.key} className={(changed(k) ? "changed" : "") + (gone(k) ? " gone" : "")}>
            <strong>{gone(k) ? "" : k.key}</strong>
            {!gone(k) && k.holder && <span className="quiet"> of {k.holder}</span>}
            <div>{word(k) || "\u2014"}</div>
          </li>
        ))}
      </ul>
    </section>
  );
  return (
    <div className="leaves">
      {page(
        "Before",
        (k) => k.before,
        (k) => k.before === "",
      )}
      <div className="turn" aria-hidden>
        {"\u2192"}
      </div>
      {page(
        "After",
        (k) => k.after,
        () => false,
      )}
    </div>
  );
}

export function RotatePage() {
  const { name = "" } = useParams();
  const [params] = useSearchParams();
  const navigate = useNavigate();
  const mayChange = useMayChange();
  const [old, setOld] = useState(params.get("old") ?? "");
  const [fresh, setFresh] = useState("");
  const [grace, setGrace] = useState(86_400);
  const access = useQuery(queries.accessOf({ instance: name }));
  const keys = access.data?.filter((a) => !a.steward) ?? [];
  const chosen = old || (keys.length === 1 ? (keys[0]?.key ?? "") : "");
  const plan = useQuery({
    ...queries.rotationPlan(name, { old: chosen, new: fresh, grace_seconds: grace }),
    enabled: chosen !== "" && fresh !== "",
  });
  const begin = useMutation({
    mutationFn: () => api.rotate(name, { old: chosen, new: fresh, grace_seconds: grace }),
    onSuccess: (w) => void navigate(`/work/${w.id}`),
  });
  return (
    <>
      <Title>Rotate a key on {name}</Title>
      <Form layout="vertical" className="choices-line">
        <Form.Item label="Old key">
          <Select
            placeholder="the key to take out"
            aria-label="the key to take out"
            value={chosen || undefined}
            onChange={setOld}
            options={keys.map((a) => ({ value: a.key, label: a.key }))}
          />
        </Form.Item>
        <Form.Item label="New key">
          <KeyChoice value={fresh} set={setFresh} not={[chosen]} />
        </Form.Item>
        <Form.Item label="The old one is accepted besides, for">
          <Select
            aria-label="how long the old one is accepted besides"
            value={grace}
            onChange={setGrace}
            options={graces}
          />
        </Form.Item>
      </Form>
      {chosen === "" || fresh === "" ? (
        <p className="quiet">
          Choose both keys to see what changes. Nothing is changed before you say so.
        </p>
      ) : (
        <Loaded query={plan}>
          {(p) => (
            <>
              <BeforeAfter plan={p} />
              {p.notes.map((n) => (
                <Alert key={n} type="info" showIcon title={n} className="gap" />
              ))}
              <p className="quiet">
                The old key is not touched before the server takes the new one and its private half
                was shown to exist, by its holder:
              </p>
              <Mono>{`plumlatch key prove ${p.new} -identity FILE`}</Mono>
              {begin.error && <Alert type="error" showIcon title={begin.error.message} />}
              <p>
                <Button
                  type="primary"
                  disabled={!mayChange}
                  loading={begin.isPending}
                  onClick={() => begin.mutate()}
                >
                  Rotate
                </Button>
              </p>
            </>
          )}
        </Loaded>
      )}
    </>
  );
}

/** A text field of a form that goes by itself. */
export function Line({
  label,
  value,
  set,
  placeholder,
}: {
  label: string;
  value: string;
  set: (v: string) => void;
  placeholder?: string;
}) {
  return (
    <Form.Item label={label}>
      <Input
        aria-label={label}
        value={value}
        placeholder={placeholder}
        onChange={(e) => set(e.target.value.trim())}
      />
    </Form.Item>
  );
}
