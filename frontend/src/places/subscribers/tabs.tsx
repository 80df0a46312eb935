import { Tabs } from "../../parts/basics";

export const SubscriberTabs = () => (
  <Tabs
    of={[
      { to: "/subscribers/map", words: "Map" },
      { to: "/subscribers/table", words: "Table" },
      { to: "/subscribers/bring-in", words: "Bring in" },
      { to: "/subscribers/address-checks", words: "Address checks" },
      { to: "/subscribers/consent", words: "Consent" },
      { to: "/subscribers/clean-up", words: "Clean-up" },
      { to: "/subscribers/doors", words: "Doors" },
      { to: "/subscribers/machine-opens", words: "Machine opens" },
    ]}
  />
);
