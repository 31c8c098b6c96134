type Prompts = typeof import('@inquirer/prompts');

/** Loaded when somebody is asked: most command lines are a script's. */
const later =
  <N extends 'confirm' | 'input' | 'password'>(name: N) =>
  async (question: Parameters<Prompts[N]>[0]): Promise<Awaited<ReturnType<Prompts[N]>>> =>
    (await import('@inquirer/prompts'))[name](question as never) as never;

export const confirm = later('confirm');
export const input = later('input');
export const password = later('password');

/** Lets somebody choose one of several. */
export async function select<T>(question: {
  readonly message: string;
  readonly choices: readonly { readonly name: string; readonly value: T }[];
}): Promise<T> {
  return (await import('@inquirer/prompts')).select<T>(question);
}
