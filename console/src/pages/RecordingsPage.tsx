import { useQuery } from "@tanstack/react-query";
import { api, take } from "../api/client";
import { PageHead } from "../parts/Page";
import { Recordings } from "../parts/Recordings";

/** What terminals printed and was kept. */
export function RecordingsPage() {
  const me = useQuery({ queryKey: ["me"], queryFn: ({ signal }) => take(api.GET("/api/v1/me", { signal })) });
  return (
    <>
      <PageHead title="Recordings">
        <span className="quiet">what terminals printed, where the house rules have it kept</span>
      </PageHead>
      <Recordings mine={me.data?.name} />
    </>
  );
}
