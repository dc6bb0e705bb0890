import { useMutation, useQuery } from "@tanstack/react-query";
import { Alert, Button, Spin } from "antd";
import { useNavigate, useParams } from "react-router";
import { Ahead } from "../parts/Ahead";
import { PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { useDone } from "../parts/useDone";
import { goBy, offer as offerOf } from "../service/launchLinks";
import * as say from "words/pages/GoPage";

/** Where a launch link leads: what it comes to, and one press to a workspace of one's own. */
export function GoPage() {
  const { link = "" } = useParams();
  const navigate = useNavigate();
  const offer = useQuery(offerOf(link));
  const { onSettled } = useDone("workspaces");
  const go = useMutation({ mutationFn: () => goBy(link), onSettled, onSuccess: (got) => navigate(`/bench/${got.workspace}`) });
  const o = offer.data;
  if (!o) return offer.error ? <ProblemNote error={offer.error} /> : <Spin />;
  return (
    <>
      <PageHead
        title={o.title}
        action={
          <Button type="primary" autoFocus loading={go.isPending || go.isSuccess} disabled={!o.yours && o.preflight.refused} onClick={() => go.mutate()}>
            {!o.yours ? say.launchIt() : o.phase === "stopped" ? say.startAndEnter() : say.enterIt()}
          </Button>
        }
      >
        <span className="quiet">{say.aLinkOf(o.made_by, o.preflight.repository)}</span>
      </PageHead>
      {o.yours && <Alert type="info" showIcon style={{ marginBottom: 12 }} title={say.youHave(o.yours.split(".")[0] ?? "", o.phase ?? "")} />}
      <ProblemNote error={go.error} />
      {!o.yours && <Ahead of={o.preflight} />}
    </>
  );
}
