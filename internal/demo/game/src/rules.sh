#!/bin/sh
# Builds rules.wasm from rules.c. Needs clang and lld (Debian: apt-get install -y clang lld).
set -eu
cd "$(dirname "$0")"
clang --target=wasm32 -O2 -nostdlib -fno-builtin -ffreestanding -Wall -Wextra \
  -Wl,--no-entry -Wl,--strip-all -Wl,-z,stack-size=16384 -Wl,--initial-memory=131072 -Wl,--max-memory=131072 \
  -o rules.wasm rules.c
