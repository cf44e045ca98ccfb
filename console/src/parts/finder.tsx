// The search of the mast: a pasted digest, tag, commit, build's number, component or reference lands on its page.
import { useRef } from 'react';
import { useNavigate } from 'react-router';
import { Mark } from './marks';

export function Finder() {
  const field = useRef<HTMLInputElement>(null);
  const go = useNavigate();
  const find = (e: React.FormEvent) => {
    e.preventDefault();
    const what = field.current?.value.trim();
    if (!what) return;
    field.current!.value = '';
    field.current!.blur();
    void go(`/find?what=${encodeURIComponent(what)}`);
  };
  return (
    <form className="find mast-find" role="search" onSubmit={find}>
      <Mark name="find" />
      <input
        ref={field}
        data-find
        type="search"
        placeholder="digest, tag, commit or build"
        aria-label="Find a digest, tag, commit, build, component or image"
      />
      <kbd>/</kbd>
    </form>
  );
}
