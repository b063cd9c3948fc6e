"""The third of the families that is kept back: nobody who works on the inference looks at what it makes of them but in the last run."""

from __future__ import annotations

from families import Family

KEPT = (
    Family("ayre", "one save", "properties", "elf", "loop", "hash", "text", "folder", "mixed", "", "iso utf-8", noise=("vendor", "odd"), further="yaml"),
    Family("baa", "regions", "json", "bin", "arguments", "uuid", "owner", "suffixed", "", "framework", "clock utf-16"),
    Family("clett", "tiles", "cfg", "pe", "ps1", "long", "ids", "text", "own", "", "epoch latin-1", noise=("economy", "dumps")),
    Family("drong", "table", "argument", "interpreted", "arguments", "bare", "json", "id", "", "scripts", "", further="toml"),
    Family("eynhal", "numbered", "", "archive", "variables", "small", "json", "prefixed", "", "archives", "clock joined", further="xml", noise=("notes",)),
    Family("fugla", "cluster", "toml", "named", "loop", "long", "line", "id", "", "unpacked", "iso utf-8", noise=("old server",)),
    Family("grund", "hashed", "xml", "elf", "arguments", "name", "", "text", "mixed", "", "jsonish utf-8", further="lua"),
    Family("hunda", "store", "variable", "elf", "variables", "long", "text", "", "own", "framework", "clock latin-1", noise=("cache", "odd"), updater=True),
    Family("lunna", "sessions", "yaml", "archive", "loop", "uuid", "ids", "folder", "", "archives", "epoch utf-8", noise=("vendor",)),
    Family("mousa", "in mission", "indexed", "elf", "arguments", "small", "owner", "suffixed", "own", "scripts", "iso utf-8", logs="records", old_script="cmd"),
)
