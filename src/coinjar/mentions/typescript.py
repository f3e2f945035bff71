"""TypeScript: the reader of JavaScript with two grammars of its own."""

from __future__ import annotations

import tree_sitter_typescript

from coinjar.mentions.converter import reader
from coinjar.mentions.javascript import JavaScriptConverter

find = reader(tree_sitter_typescript.language_typescript, JavaScriptConverter)
find_with_markup = reader(tree_sitter_typescript.language_tsx, JavaScriptConverter)
