import { Link } from "react-router";
import type { Me } from "../api/client";
import { Notice } from "./Notice";

/** A page that is not for everybody. */
export function NotAllowed({ me, what }: { me: Me; what: string }) {
  return (
    <Notice
      title="This is for wranglers"
      text={`${what} You are signed in as ${me.name}, ${me.role}; ask a wrangler, or somebody who can make you one.`}
    >
      <Link to="/" className="btn btn-sm">
        To the Watch page
      </Link>
    </Notice>
  );
}
