import { Link } from "react-router";
import { Says } from "~/parts/sentence";

export function Component() {
  return <Says under={<Link to="/">To what needs you today</Link>}>There is no page at this address.</Says>;
}
