import clsx from "clsx";
import {
  useId,
  type InputHTMLAttributes,
  type ReactNode,
  type SelectHTMLAttributes,
  type TextareaHTMLAttributes,
} from "react";

const box = "w-full rounded-edge border border-rule bg-sheet px-2 py-1.5 text-body text-ink placeholder:text-ink-3";

type Around = { label: string; hint?: ReactNode; error?: string };

/** A label, the field, what it means, and what is wrong with it, read out together. */
function Field({
  label,
  hint,
  error,
  children,
}: Around & { children: (given: { id: string; "aria-describedby": string; "aria-invalid": boolean }) => ReactNode }) {
  const id = useId();
  return (
    <div className="mb-3">
      <label htmlFor={id} className="text-small mb-0.5 block font-medium">
        {label}
      </label>
      {children({ id, "aria-describedby": `${id}-about`, "aria-invalid": Boolean(error) })}
      <p id={`${id}-about`} className={clsx("text-label", error ? "text-heed" : "text-ink-3")}>
        {error ?? hint}
      </p>
    </div>
  );
}

export function TextField({ label, hint, error, className, ...rest }: Around & InputHTMLAttributes<HTMLInputElement>) {
  return (
    <Field {...{ label, hint, error }}>
      {(given) => <input {...given} {...rest} className={clsx(box, className)} />}
    </Field>
  );
}

export function TextArea({ label, hint, error, ...rest }: Around & TextareaHTMLAttributes<HTMLTextAreaElement>) {
  return (
    <Field {...{ label, hint, error }}>{(given) => <textarea rows={3} {...given} {...rest} className={box} />}</Field>
  );
}

export function Choice({
  label,
  hint,
  error,
  options,
  ...rest
}: Around & SelectHTMLAttributes<HTMLSelectElement> & { options: (string | [string, string])[] }) {
  return (
    <Field {...{ label, hint, error }}>
      {(given) => (
        <select {...given} {...rest} className={box}>
          {options.map((option) => {
            const [value, text] = typeof option === "string" ? [option, option] : option;
            return (
              <option key={value} value={value}>
                {text}
              </option>
            );
          })}
        </select>
      )}
    </Field>
  );
}

export function Check({ label, ...rest }: { label: ReactNode } & InputHTMLAttributes<HTMLInputElement>) {
  return (
    <label className="mb-2 flex items-baseline gap-2">
      <input type="checkbox" {...rest} className="accent-link" />
      <span>{label}</span>
    </label>
  );
}

/** As the service names things: lower-case letters, digits and single hyphens, beginning with a letter, 63 at most. */
const named = /^[a-z][a-z0-9]*(-[a-z0-9]+)*$/;

/** A field for the name of something new; what is wrong with it is said beside it, before anything is sent. */
export function NameField({ value, ...rest }: Around & InputHTMLAttributes<HTMLInputElement> & { value: string }) {
  const wrong = value !== "" && (value.length > 63 || !named.test(value));
  const error = wrong
    ? "Lower-case letters, digits and single hyphens, beginning with a letter, 63 at most."
    : undefined;
  return <TextField value={value} error={error} pattern={named.source} maxLength={63} {...rest} />;
}
