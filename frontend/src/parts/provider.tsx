import { useQuery } from "@tanstack/react-query";
import { get } from "../api/client";
import { keys } from "../api/keys";

export function useProviders() {
  return useQuery({ queryKey: keys.providers(), queryFn: () => get("/providers") });
}

/** A provider's name with the colour it was given on Health, where it has one. */
export function ProviderName({ name }: { name: string }) {
  const colour = useProviders().data?.providers.find((p) => p.name === name)?.colour;
  return (
    <>
      {colour && (
        <span
          aria-hidden
          data-provider-colour={name}
          className="mr-2 inline-block size-3 rounded-[2px]"
          style={{ background: colour }}
        />
      )}
      {name}
    </>
  );
}
