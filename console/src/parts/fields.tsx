/** Fields of forms. */
import { Checkbox, Collapsible, Select } from 'radix-ui';
import { useId } from 'react';

const field = 'rounded-md border border-line bg-paper px-3';
export const fieldLook = `${field} py-1.5`;
/** In a row of a form. */
export const smallFieldLook = `${field} py-1`;

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
      <Checkbox.Root
        id={id}
        checked={checked}
        onCheckedChange={(on) => set(on === true)}
        className="grid size-4 flex-none cursor-pointer place-items-center rounded-sm border border-line bg-paper data-[state=checked]:border-indigo data-[state=checked]:bg-indigo"
      >
        <Checkbox.Indicator>
          <svg viewBox="0 0 12 12" width="10" height="10" aria-hidden="true">
            <path
              d="m2.5 6.2 2.4 2.4 4.6-5"
              fill="none"
              stroke="var(--on-indigo)"
              strokeWidth="2"
              strokeLinecap="round"
            />
          </svg>
        </Checkbox.Indicator>
      </Checkbox.Root>
      <label htmlFor={id}>{label}</label>
    </span>
  );
}

/** What stands for the empty value: a choice of its own, not "nothing chosen". */
const none = '*';

/** One of several, where a form has little room. */
export function Choice({
  label,
  value,
  set,
  options,
}: {
  label: string;
  value: string;
  set: (value: string) => void;
  options: readonly { value: string; text: string }[];
}) {
  return (
    <Select.Root value={value || none} onValueChange={(chosen) => set(chosen === none ? '' : chosen)}>
      <Select.Trigger aria-label={label} className={`${smallFieldLook} flex cursor-pointer items-center gap-2`}>
        <Select.Value />
        <Select.Icon className="text-second">▾</Select.Icon>
      </Select.Trigger>
      <Select.Portal>
        <Select.Content
          position="popper"
          sideOffset={4}
          className="z-50 max-h-80 overflow-hidden rounded-md border border-line bg-sheet shadow-lg"
        >
          <Select.Viewport className="p-1">
            {options.map((one) => (
              <Select.Item
                key={one.value}
                value={one.value || none}
                className="cursor-pointer rounded px-3 py-1 outline-none data-[highlighted]:bg-faint data-[state=checked]:font-semibold"
              >
                <Select.ItemText>{one.text}</Select.ItemText>
              </Select.Item>
            ))}
          </Select.Viewport>
        </Select.Content>
      </Select.Portal>
    </Select.Root>
  );
}

/** What is shown when it is asked for. */
export function Fold({
  title,
  className = '',
  titleClass = '',
  opened,
  children,
}: {
  title: React.ReactNode;
  className?: string;
  titleClass?: string;
  opened?: (open: boolean) => void;
  children: React.ReactNode;
}) {
  return (
    <Collapsible.Root className={className} {...(opened ? { onOpenChange: opened } : {})}>
      <Collapsible.Trigger className={`group flex w-fit cursor-pointer items-center gap-1.5 text-left ${titleClass}`}>
        <span aria-hidden="true" className="text-[11px] text-second group-data-[state=open]:rotate-90">
          ▶
        </span>
        <span>{title}</span>
      </Collapsible.Trigger>
      <Collapsible.Content>{children}</Collapsible.Content>
    </Collapsible.Root>
  );
}
