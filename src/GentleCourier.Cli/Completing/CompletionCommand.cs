using System.CommandLine;

namespace GentleCourier.Cli;

/// <summary><c>courier completion</c>: has a shell complete the command's lines.</summary>
internal static class CompletionCommand
{
    private const string Bash = "bash", Zsh = "zsh", Fish = "fish";

    public static Command Create()
    {
        var command = new Command(
            "completion",
            """
            Has a shell complete command lines: commands, options, and the names of queues and stores.

            It prints what the shell has to read; with --install it writes that to where the shell looks for it.

            Examples:
              courier completion bash --install
              courier completion zsh > ~/.zfunc/_courier
            """);
        var shell = new Argument<string>("SHELL")
        {
            HelpName = "SHELL", Description = "bash, zsh or fish.",
        };
        shell.AcceptOnlyFromAmong(Bash, Zsh, Fish);
        var install = new Option<bool>("--install") { Description = "Write it to this user's folder for that." };
        command.Arguments.Add(shell);
        command.Options.Add(install);
        command.SetAction(result =>
        {
            var name = result.GetRequiredValue(shell);
            if (!result.GetValue(install))
            {
                Console.Write(ScriptOf(name));
                return;
            }
            var file = FileOf(name);
            Directory.CreateDirectory(Path.GetDirectoryName(file)!);
            File.WriteAllText(file, ScriptOf(name));
            Console.WriteLine($"written to {file}; a new {name} completes courier's lines");
            if (name == Zsh)
                Console.WriteLine($"if it does not: have `fpath=({Path.GetDirectoryName(file)} $fpath)` before "
                    + "compinit in ~/.zshrc");
        });
        return command;
    }

    /// <summary>Where the shell looks by itself, or, of zsh, where many have it look.</summary>
    private static string FileOf(string shell)
    {
        var home = Environment.GetFolderPath(Environment.SpecialFolder.UserProfile);
        return shell switch
        {
            Bash => Path.Combine(
                Said("XDG_DATA_HOME") ?? Path.Combine(home, ".local", "share"), "bash-completion", "completions",
                "courier"),
            Fish => Path.Combine(
                Said("XDG_CONFIG_HOME") ?? Path.Combine(home, ".config"), "fish", "completions", "courier.fish"),
            _ => Path.Combine(home, ".zfunc", "_courier"),
        };
    }

    private static string? Said(string variable) =>
        Environment.GetEnvironmentVariable(variable) is { Length: > 0 } value ? value : null;

    // The program itself is asked, with the line and where in it the cursor is.
    private static string ScriptOf(string shell) => shell switch
    {
        Bash => """
            _courier() {
              local IFS=$'\n' known
              known=$(courier "[suggest:$COMP_POINT]" "$COMP_LINE" 2>/dev/null)
              COMPREPLY=($(compgen -W "$known" -- "${COMP_WORDS[COMP_CWORD]}"))
            }
            complete -o default -F _courier courier

            """,
        Zsh => """
            #compdef courier
            _courier() {
              local -a known
              known=("${(@f)$(courier "[suggest:$CURSOR]" "$BUFFER" 2>/dev/null)}")
              compadd -- $known
            }
            if [ "$funcstack[1]" = "_courier" ]; then _courier "$@"; else compdef _courier courier; fi

            """,
        _ => """
            function __courier_known
              set -l line (commandline -cp)
              courier "[suggest:"(string length -- "$line")"]" "$line" 2>/dev/null
            end
            complete -c courier -f -a '(__courier_known)'

            """,
    };
}
