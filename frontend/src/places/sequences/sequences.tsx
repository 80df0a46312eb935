import { Route, Routes } from "react-router";
import { SequenceListPage } from "./list";
import { WalkPage } from "./simulation";
import { StepsPage } from "./steps";

export function SequencesPlace() {
  return (
    <Routes>
      <Route index element={<SequenceListPage />} />
      <Route path=":id" element={<StepsPage />} />
      <Route path=":id/simulation" element={<WalkPage />} />
    </Routes>
  );
}
