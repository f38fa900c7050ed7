// What an empty service says to whoever comes first.
import { Link } from "react-router";
import { useQuery } from "@tanstack/react-query";
import { Mono } from "./parts";
import { queries } from "./queries";

/** The three first steps, while nothing is recorded; nothing otherwise. */
export function Welcome() {
  const keys = useQuery(queries.keys({ limit: 1 }));
  const instances = useQuery(queries.instances({ limit: 1 }));
  if (keys.data?.items.length !== 0 || instances.data?.items.length !== 0) {
    return null;
  }
  return (
    <section className="welcome" aria-label="First steps">
      <h2>Nothing is recorded yet: three first steps</h2>
      <ol>
        <li>
          <strong>A key pair of yours.</strong> <Link to="/create">Create one</Link> here, where its
          private half is saved by your browser, or on your machine:{" "}
          <Mono label="Copy the command for a key">plumlatch key create NAME</Mono> The service only
          ever sees the public half.
        </li>
        <li>
          <strong>An instance.</strong> <Link to="/launch">Launch one</Link> that your key opens, or{" "}
          <Link to="/adopt">adopt one</Link> that is there already.
        </li>
        <li>
          <strong>Get in.</strong>{" "}
          <Mono label="Copy the command to get in">plumlatch open NAME</Mono> uses your own ssh,
          with the host key pinned. Then this page tells what needs a hand.
        </li>
      </ol>
    </section>
  );
}
