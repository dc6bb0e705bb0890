import { useMutation } from "@tanstack/react-query";
import { Button } from "antd";
import type { Me } from "../api/client";
import { PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { useAddress } from "../parts/search";
import { letIn } from "../service/session";
import * as say from "words/pages/LetInPage";

/** Where the command line of this machine sends its user, to be let in as them. */
export function LetInPage({ person }: { person: Me }) {
  const [get] = useAddress();
  const asked = { code_challenge: get("code_challenge") ?? "", redirect_uri: get("redirect_uri") ?? "", state: get("state") ?? "" };
  const go = useMutation({ mutationFn: () => letIn(asked), onSuccess: (made) => location.assign(made.location) });
  return (
    <>
      <PageHead title={say.letTheCommandLineIn()} />
      <p>{say.itWaitsOnThisMachine(person.name)}</p>
      <Button type="primary" autoFocus disabled={!asked.code_challenge || !asked.redirect_uri} loading={go.isPending || go.isSuccess} onClick={() => go.mutate()}>
        {say.letItIn()}
      </Button>
      <ProblemNote error={go.error} />
    </>
  );
}
