import { useQuery } from "@tanstack/react-query";
import { Checkbox, Form } from "antd";
import { nameOf, type Person } from "../api/client";
import { askMany } from "../service/operations";
import { changePerson } from "../service/people";
import { runsOf } from "../service/workspaces";
import { money } from "words/amounts";
import { Ask } from "./Ask";
import { ProblemNote } from "./ProblemNote";
import * as say from "words/parts/CloseAccount";

/** Closing somebody's account: what of theirs runs is said before, and stopped where that is wanted. */
export function CloseAccount({ of: p, onClose }: { of: Person; onClose: () => void }) {
  const running = useQuery(runsOf(p.name));
  const runs = running.data ?? [];
  return (
    <Ask<{ stop?: boolean }>
      title={say.closeTheAccountOf(p.full_name)}
      ok={say.close()}
      about={say.theyAreSignedOut()}
      changes={["people", "workspaces", "operations"]}
      onClose={onClose}
      ask={async ({ stop }) => {
        await changePerson(p.name, { closed: true });
        if (stop && runs.length > 0) await askMany({ verb: "stop", names: runs.map(nameOf), reason: say.wasClosed(p.name) });
      }}
    >
      <ProblemNote error={running.error} />
      {running.data && runs.length === 0 && <p>{say.nothingRuns()}</p>}
      {runs.length > 0 && (
        <>
          <p>
            {say.runs(
              runs.map((w) => w.name),
              money(
                runs.reduce((sum, w) => sum + w.hour_micros, 0),
                runs[0]?.currency ?? "",
              ),
            )}
          </p>
          <Form.Item name="stop" valuePropName="checked">
            <Checkbox>{say.stopThem()}</Checkbox>
          </Form.Item>
        </>
      )}
    </Ask>
  );
}
