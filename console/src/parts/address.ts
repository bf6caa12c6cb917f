import { useSearchParams } from "react-router";

/** What is chosen on a page, as its address keeps it; and what puts a choice there, or with nothing takes it away. */
export function useChosen() {
  const [params, setParams] = useSearchParams();
  const put = (key: string, value: string | null) =>
    setParams(
      (before) => {
        if (value) before.set(key, value);
        else before.delete(key);
        return before;
      },
      { replace: true },
    );
  return [params, put] as const;
}
