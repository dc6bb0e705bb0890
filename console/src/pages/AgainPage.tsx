import { useQueryClient } from "@tanstack/react-query";
import { Spin } from "antd";
import { useEffect } from "react";
import { useNavigate } from "react-router";
import { useAddress } from "../parts/search";
import { signOut } from "../service/session";

/** Has somebody sign in again, to go on where they were: a sign-in of now is another one. */
export function AgainPage() {
  const [get] = useAddress();
  const to = get("to") ?? "/";
  const navigate = useNavigate();
  const queries = useQueryClient();
  useEffect(() => {
    void signOut()
      .catch(() => undefined) // it may have ended already
      .then(() => navigate(to.startsWith("/") && !to.startsWith("//") ? to : "/", { replace: true }))
      .then(() => queries.resetQueries());
  }, [to, navigate, queries]);
  return <Spin />;
}
