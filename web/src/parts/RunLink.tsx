import { Link } from "react-router";

/** Leads to a run; to nothing where it is one that its reader does not see. */
export function RunLink({ run, name, className }: { run: number; name: string; className: string }) {
  return run === 0 ? (
    <span>{name}</span>
  ) : (
    <Link to={`/runs/${run}`} className={className}>
      {name}
    </Link>
  );
}
