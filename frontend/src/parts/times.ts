import { timesIn } from "../logic/times";
import { useMe } from "./me";

/** Moments in the workspace's time zone, in which every time on the screen is. */
export const useTimes = () => timesIn(useMe().time_zone);
