/** Fields of forms. */
import { useId } from 'react';

export const fieldLook = 'rounded-md border border-line bg-paper px-3 py-1.5';

export function Field({
  label,
  hint,
  children,
}: {
  label: string;
  hint?: React.ReactNode;
  children: (id: string) => React.ReactNode;
}) {
  const id = useId();
  return (
    <div className="flex flex-col gap-1">
      <label htmlFor={id} className="font-semibold">
        {label}
      </label>
      {children(id)}
      {hint ? <p className="text-second">{hint}</p> : null}
    </div>
  );
}

export function Text({
  label,
  hint,
  value,
  set,
  ...rest
}: { label: string; hint?: React.ReactNode; value: string; set: (text: string) => void } & Omit<
  React.InputHTMLAttributes<HTMLInputElement>,
  'value'
>) {
  return (
    <Field label={label} hint={hint}>
      {(id) => (
        <input
          id={id}
          value={value}
          onChange={(event) => set(event.target.value)}
          {...rest}
          className={`code ${fieldLook} ${rest.className ?? ''}`}
        />
      )}
    </Field>
  );
}

export function Check({ label, checked, set }: { label: string; checked: boolean; set: (on: boolean) => void }) {
  const id = useId();
  return (
    <span className="flex items-center gap-2">
      <input
        id={id}
        type="checkbox"
        checked={checked}
        onChange={(event) => set(event.target.checked)}
        className="size-4 accent-[var(--indigo)]"
      />
      <label htmlFor={id}>{label}</label>
    </span>
  );
}
