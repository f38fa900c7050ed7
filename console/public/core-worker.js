// Runs the core, compiled from Go, beside the page, so that the page never
// freezes. It is given requests {id, call, ...} and answers {id, ok, ...}.
// The only thing it ever fetches is the core itself.
"use strict";

importScripts("/wasm_exec.js");

const go = new Go();
const started = new Promise((ready) => {
  self.plumlatchReady = ready;
});

async function start() {
  const response = await fetch("/core.wasm");
  if (!response.ok) {
    throw new Error("the core could not be loaded; reload the page");
  }
  const { instance } = await WebAssembly.instantiateStreaming(response, go.importObject);
  go.run(instance);
  await started;
}

const ready = start();

const bits = { "rsa-2048": 2048, "rsa-3072": 3072, "rsa-4096": 4096 };

// WebCrypto makes RSA in about a second; Go in the browser takes far longer.
async function rsa(kind) {
  const pair = await crypto.subtle.generateKey(
    {
      name: "RSASSA-PKCS1-v1_5",
      modulusLength: bits[kind],
      publicExponent: new Uint8Array([1, 0, 1]),
      hash: "SHA-256",
    },
    true,
    ["sign", "verify"],
  );
  return new Uint8Array(await crypto.subtle.exportKey("pkcs8", pair.privateKey));
}

self.onmessage = async (event) => {
  const { id, call, request } = event.data;
  try {
    await ready;
    if (call === "create" && bits[request.kind]) {
      request.pkcs8 = await rsa(request.kind);
    }
    const result = await self.plumlatchCore[call](request);
    if (request.pkcs8) {
      request.pkcs8.fill(0);
    }
    self.postMessage({ id, result });
  } catch (error) {
    self.postMessage({ id, error: error instanceof Error ? error.message : String(error) });
  }
};
