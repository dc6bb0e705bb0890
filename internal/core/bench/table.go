package bench

// usualLanguages are the programs that serve languages, as their own documentation
// says they are begun for standard input and output. docs/bench.md has the table.
var usualLanguages = []Language{
	{ID: "python", Files: []string{"*.py", "*.pyi"}, Programs: [][]string{{"pylsp"}, {"jedi-language-server"}, {"basedpyright-langserver", "--stdio"}, {"pyright-langserver", "--stdio"}}, Package: "python3-pylsp"},
	{ID: "go", Files: []string{"*.go", "go.mod"}, Programs: [][]string{{"gopls"}}, Package: "gopls"},
	{ID: "c", Files: []string{"*.c", "*.h"}, Programs: [][]string{{"clangd"}, {"ccls"}}, Package: "clangd"},
	{ID: "cpp", Files: []string{"*.cc", "*.cpp", "*.cxx", "*.hh", "*.hpp", "*.hxx"}, Programs: [][]string{{"clangd"}, {"ccls"}}, Package: "clangd"},
	{ID: "rust", Files: []string{"*.rs"}, Programs: [][]string{{"rust-analyzer"}}},
	{ID: "typescript", Files: []string{"*.ts", "*.mts", "*.cts"}, Programs: [][]string{{"typescript-language-server", "--stdio"}}},
	{ID: "typescriptreact", Files: []string{"*.tsx"}, Programs: [][]string{{"typescript-language-server", "--stdio"}}},
	{ID: "javascript", Files: []string{"*.js", "*.mjs", "*.cjs"}, Programs: [][]string{{"typescript-language-server", "--stdio"}}},
	{ID: "javascriptreact", Files: []string{"*.jsx"}, Programs: [][]string{{"typescript-language-server", "--stdio"}}},
	{ID: "java", Files: []string{"*.java"}, Programs: [][]string{{"jdtls"}}},
	{ID: "kotlin", Files: []string{"*.kt", "*.kts"}, Programs: [][]string{{"kotlin-language-server"}}},
	{ID: "ruby", Files: []string{"*.rb", "Gemfile", "Rakefile"}, Programs: [][]string{{"ruby-lsp"}, {"solargraph", "stdio"}}, Package: "solargraph"},
	{ID: "php", Files: []string{"*.php"}, Programs: [][]string{{"phpactor", "language-server"}}},
	{ID: "perl", Files: []string{"*.pl", "*.pm"}, Programs: [][]string{{"perlnavigator", "--stdio"}}},
	{ID: "lua", Files: []string{"*.lua"}, Programs: [][]string{{"lua-language-server"}}},
	{ID: "shellscript", Files: []string{"*.sh", "*.bash"}, Programs: [][]string{{"bash-language-server", "start"}}},
	{ID: "zig", Files: []string{"*.zig"}, Programs: [][]string{{"zls"}}},
	{ID: "haskell", Files: []string{"*.hs"}, Programs: [][]string{{"haskell-language-server-wrapper", "--lsp"}}},
	{ID: "ocaml", Files: []string{"*.ml", "*.mli"}, Programs: [][]string{{"ocamllsp"}}, Package: "ocaml-lsp-server"},
	{ID: "elixir", Files: []string{"*.ex", "*.exs"}, Programs: [][]string{{"elixir-ls"}, {"language_server.sh"}}},
	{ID: "erlang", Files: []string{"*.erl", "*.hrl"}, Programs: [][]string{{"erlang_ls"}}},
	{ID: "clojure", Files: []string{"*.clj", "*.cljs", "*.edn"}, Programs: [][]string{{"clojure-lsp"}}},
	{ID: "dart", Files: []string{"*.dart"}, Programs: [][]string{{"dart", "language-server", "--protocol=lsp"}}},
	{ID: "swift", Files: []string{"*.swift"}, Programs: [][]string{{"sourcekit-lsp"}}},
	{ID: "csharp", Files: []string{"*.cs"}, Programs: [][]string{{"csharp-ls"}}},
	{ID: "terraform", Files: []string{"*.tf", "*.tfvars"}, Programs: [][]string{{"terraform-ls", "serve"}}},
	{ID: "yaml", Files: []string{"*.yaml", "*.yml"}, Programs: [][]string{{"yaml-language-server", "--stdio"}}},
	{ID: "toml", Files: []string{"*.toml"}, Programs: [][]string{{"taplo", "lsp", "stdio"}}},
	{ID: "latex", Files: []string{"*.tex"}, Programs: [][]string{{"texlab"}}},
	{ID: "nix", Files: []string{"*.nix"}, Programs: [][]string{{"nil"}}},
}

// usualAdapters are the adapters that debug over standard input and output.
var usualAdapters = []Adapter{
	{ID: "python", Command: []string{"python3", "-m", "debugpy.adapter"}, Test: []string{"python3", "-c", "import debugpy"}, Package: "python3-debugpy"},
	{ID: "native", Command: []string{"gdb", "--interpreter=dap"}, Test: []string{"gdb", "--batch", "--interpreter=dap"}, Package: "gdb"},
	{ID: "lldb", Command: []string{"lldb-dap"}, Package: "lldb"},
	{ID: "dart", Command: []string{"dart", "debug_adapter"}},
}
