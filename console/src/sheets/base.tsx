import { Link } from "react-router";
import { to } from "~/parts/text";

/** What a run starts from: a version, or a disk that is copied, which has no page. */
export function Base({ name }: { name: string }) {
  return name.includes("@") ? <Link to={to.version(name)}>{name}</Link> : name;
}
