import { useMutation, useQuery } from "@tanstack/react-query";
import { App, Button, Form, Input } from "antd";
import { useState } from "react";
import { teamsOf, type Me } from "../api/client";
import { Keys } from "../parts/Keys";
import { Luggage } from "../parts/Luggage";
import { OwnFiles } from "../parts/OwnFiles";
import { Credentials } from "../parts/Credentials";
import { GitKey } from "../parts/GitKey";
import { Passkeys } from "../parts/Passkeys";
import { Usual } from "../parts/Usual";
import { PageHead } from "../parts/Page";
import { Ask } from "../parts/Ask";
import { ProblemNote } from "../parts/ProblemNote";
import { MakeToken, TokenTable } from "../parts/Tokens";
import { useDone } from "../parts/useDone";
import { changePassword, endToken, tokens as tokensOf } from "../service/tokens";
import * as say from "words/pages/YouPage";

/** What one is signed in with, and tokens for programs. */
export function YouPage({ person }: { person: Me }) {
  const [making, setMaking] = useState(false);
  const [changing, setChanging] = useState(false);
  const tokens = useQuery(tokensOf);
  const done = useDone("tokens", "me");
  const end = useMutation({ mutationFn: endToken, ...done });
  return (
    <>
      <PageHead
        title={person.full_name}
        action={
          <>
            <Button style={{ marginRight: 8 }} onClick={() => setChanging(true)}>
              {say.changePassword()}
            </Button>
            <Button type="primary" onClick={() => setMaking(true)}>
              {say.makeAToken()}
            </Button>
          </>
        }
      >
        <span className="quiet">
          {person.name}, {person.email}, {person.role}
          {teamsOf(person).length > 0 && say.team(teamsOf(person).join(", "))}
        </span>
      </PageHead>
      <ProblemNote error={tokens.error} />
      <TokenTable tokens={tokens.data?.filter((t) => t.door !== "ssh")} loading={tokens.isPending} end={(id) => end.mutate(id)} />
      <Passkeys />
      <Usual />
      <OwnFiles />
      <Luggage />
      <GitKey />
      <Keys />
      <Credentials />
      {changing && <ChangePassword onClose={() => setChanging(false)} />}
      {making && <MakeToken onClose={() => setMaking(false)} />}
    </>
  );
}

function ChangePassword({ onClose }: { onClose: () => void }) {
  const { message } = App.useApp();
  return (
    <Ask<{ old: string; new: string; again: string }>
      title={say.changeYourPassword()}
      ok={say.changeIt()}
      about={say.allYourOtherSign()}
      ask={(f) => changePassword(f.old, f.new)}
      changes={["tokens"]}
      onClose={onClose}
      onDone={() => {
        void message.success(say.yourPasswordIsAnother());
        onClose();
      }}
    >
      <Form.Item name="old" label={say.now()} rules={[{ required: true, message: say.theOneThatYou() }]}>
        <Input.Password autoFocus autoComplete="current-password" />
      </Form.Item>
      <Form.Item name="new" label={say.another()} rules={[{ required: true, message: say.anotherPlease() }]}>
        <Input.Password autoComplete="new-password" />
      </Form.Item>
      <Form.Item name="again" label={say.theSameAgain()} dependencies={["new"]} rules={[({ getFieldValue }) => ({ validator: (_, v: string) => (v === getFieldValue("new") ? Promise.resolve() : Promise.reject(new Error(say.theTwoAreNot()))) })]}>
        <Input.Password autoComplete="new-password" />
      </Form.Item>
    </Ask>
  );
}
