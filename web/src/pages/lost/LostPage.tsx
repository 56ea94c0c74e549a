import { Link, useLocation } from "react-router";
import { Notice } from "../../parts/Notice";
import { useTitle } from "../../parts/title";

/** An address at which there is nothing. */
export function LostPage() {
  const { pathname } = useLocation();
  useTitle("No such page");
  return (
    <Notice title="There is no such page" text={`Nothing is at ${pathname}. The address may be mistyped or cut off.`}>
      <span className="flex gap-2">
        <Link to="/" className="btn btn-sm">
          To the Watch page
        </Link>
        <Link to="/queue" className="btn btn-sm">
          To the queue
        </Link>
      </span>
    </Notice>
  );
}
