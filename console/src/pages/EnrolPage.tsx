import { useMutation, useQuery } from "@tanstack/react-query";
import { Button, Form, Input } from "antd";
import { useState } from "react";
import { Problem } from "../api/client";
import { ProblemNote } from "../parts/ProblemNote";
import { when } from "../parts/time";
import { Themed } from "../Themed";
import { enrol, offerOf } from "../service/people";
import { signIn } from "../service/session";

type Fields = { name?: string; full_name?: string; email?: string; password: string };

/** Where an enrolment link leads: set up the account, or a new password. */
export function EnrolPage() {
  return (
    <Themed>
      <Enrol />
    </Themed>
  );
}

function Enrol() {
  const [key] = useState(() => location.hash.slice(1));
  const offer = useQuery(offerOf(key));
  const use = useMutation({
    mutationFn: async (f: Fields) => {
      const p = await enrol({ key, ...f });
      await signIn({ name: p.name, password: f.password });
    },
    onSuccess: () => location.assign("/"),
  });
  const again = offer.data?.person;
  return (
    <main className="narrow">
      <h1>{again ? `A new password for ${again}` : "Set up your account at Yard Bench"}</h1>
      {offer.error && <ProblemNote error={offer.error instanceof Problem && offer.error.status === 404 ? new Problem(404, "This link cannot be used.", offer.error.next) : offer.error} />}
      {offer.data && (
        <Form<Fields> layout="vertical" size="large" requiredMark={false} onFinish={(f) => use.mutate(f)}>
          {!again && (
            <>
              <p>
                You will be {offer.data.role}
                {offer.data.team && `, in the team ${offer.data.team}`}. The link can be used until {when(offer.data.expires_at)}.
              </p>
              <Form.Item name="name" label="Name to sign in with" rules={[{ required: true, message: "A name, please" }]} extra="Lower-case letters and digits">
                <Input autoFocus autoComplete="username" spellCheck={false} />
              </Form.Item>
              <Form.Item name="full_name" label="Full name" rules={[{ required: true, message: "Your full name, please" }]} extra="It stands on your commits">
                <Input autoComplete="name" />
              </Form.Item>
              <Form.Item name="email" label="Mail address" rules={[{ required: true, message: "Your address, please" }]} extra="It stands on your commits">
                <Input autoComplete="email" />
              </Form.Item>
            </>
          )}
          <Form.Item name="password" label="Password" rules={[{ required: true, message: "A password, please" }]} extra="At least 8 characters">
            <Input.Password autoComplete="new-password" />
          </Form.Item>
          {use.error && (
            <Form.Item>
              <ProblemNote error={use.error} />
            </Form.Item>
          )}
          <Button type="primary" htmlType="submit" loading={use.isPending} block>
            {again ? "Set the password" : "Set up and sign in"}
          </Button>
        </Form>
      )}
    </main>
  );
}
