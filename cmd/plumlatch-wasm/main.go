//go:build js && wasm

// Command plumlatch-wasm is the core compiled for the browser. It runs in a
// worker of the console's page and puts one object, plumlatchCore, into the
// worker's scope. Each of its functions takes and returns plain values and
// returns a Promise, since Go must not block the thread that called it.
// Nothing here reaches the network but the shell, by a stream of the service that the page came from: the bytes that go there are SSH's cipher text.
package main

import (
	"crypto/x509"
	"errors"
	"strings"
	"syscall/js"

	"plumlatch/core/keypair"
	"plumlatch/core/secrets"
)

func main() {
	js.Global().Set("plumlatchCore", map[string]any{
		"create":  promise(create),
		"inspect": promise(inspect),
		"convert": promise(convert),
		"holds":   promise(holds),

		"keyOpen": promise(keyOpen), "keyMake": promise(keyMake), "keyForget": promise(keyForget),
		"shellOpen": promise(shellOpen), "shellDrawn": promise(shellDrawn), "shellType": promise(shellType), "shellResize": promise(shellResize),
		"shellClose": promise(shellClose), "shellFiles": promise(shellFiles), "shellGet": promise(shellGet), "shellPut": promise(shellPut),
		"shellPart": promise(shellPart), "shellStop": promise(shellStop),
	})
	if ready := js.Global().Get("plumlatchReady"); ready.Type() == js.TypeFunction {
		ready.Invoke()
	}
	select {}
}

// promise makes a function for JavaScript that runs in a goroutine.
func promise(f func(in js.Value) (map[string]any, error)) js.Func {
	return js.FuncOf(func(_ js.Value, args []js.Value) any {
		in := js.Undefined()
		if len(args) > 0 {
			in = args[0]
		}
		return js.Global().Get("Promise").New(js.FuncOf(func(_ js.Value, settle []js.Value) any {
			go func() {
				out, err := f(in)
				if err != nil {
					settle[1].Invoke(js.Global().Get("Error").New(err.Error()))
					return
				}
				settle[0].Invoke(out)
			}()
			return nil
		}))
	})
}

func text(in js.Value, name string) string {
	if v := in.Get(name); v.Type() == js.TypeString {
		return v.String()
	}
	return ""
}

func data(in js.Value, name string) []byte {
	v := in.Get(name)
	if v.Type() != js.TypeObject {
		return nil
	}
	b := make([]byte, v.Get("length").Int())
	js.CopyBytesToGo(b, v)
	return b
}

func array(b []byte) js.Value {
	v := js.Global().Get("Uint8Array").New(len(b))
	js.CopyBytesToJS(v, b)
	return v
}

func describePublic(p keypair.Public) map[string]any {
	if len(p.Blob) == 0 {
		return map[string]any{}
	}
	cuts := []any{}
	for _, d := range p.Bitting() {
		cuts = append(cuts, int(d))
	}
	weaknesses := []any{}
	for _, w := range p.Weaknesses() {
		weaknesses = append(weaknesses, map[string]any{"name": w.Name, "severity": string(w.Severity),
			"sentence": w.Sentence})
	}
	return map[string]any{
		"kind": p.Kind(), "fingerprint": p.Fingerprint(), "fingerprintMD5": p.FingerprintMD5(), "cuts": cuts,
		"comment": p.Comment, "publicLine": p.Line(), "weaknesses": weaknesses,
	}
}

// create makes a pair: {kind, comment, format, passphrase, pkcs8}. An RSA key
// comes ready made as PKCS#8 from WebCrypto, which makes it much faster.
func create(in js.Value) (map[string]any, error) {
	kind, err := keypair.ParseKind(text(in, "kind"))
	if err != nil {
		return nil, err
	}
	var pair *keypair.Pair
	if der := data(in, "pkcs8"); der != nil {
		defer clear(der)
		key, err := x509.ParsePKCS8PrivateKey(der)
		if err != nil {
			return nil, errors.New("the browser's key cannot be read")
		}
		pair, err = keypair.FromPrivate(key, text(in, "comment"))
		if err != nil {
			return nil, err
		}
		if pair.Public.Kind() != string(kind) {
			return nil, errors.New("the browser made another kind of key than it was asked for")
		}
	} else if pair, err = keypair.Create(kind, text(in, "comment")); err != nil {
		return nil, err
	}
	return written(pair, text(in, "format"), text(in, "passphrase"))
}

func written(pair *keypair.Pair, formatName, passphrase string) (map[string]any, error) {
	format, err := keypair.ParseFormat(formatName, keypair.PrivateFormats())
	if err != nil {
		return nil, err
	}
	file, err := pair.Write(format, []byte(passphrase))
	if err != nil {
		return nil, err
	}
	defer clear(file)
	out := describePublic(pair.Public)
	out["file"] = array(file)
	out["warning"] = keypair.LoadWarning(pair.Public.Kind(), format)
	return out, nil
}

// holds tells whether a private key stands in a text, as the service looks: {text}.
func holds(in js.Value) (map[string]any, error) {
	return map[string]any{"holds": secrets.Holds(text(in, "text"))}, nil
}

// inspect tells what a file is: {file, passphrase}.
func inspect(in js.Value) (map[string]any, error) {
	file := data(in, "file")
	defer clear(file)
	f, err := keypair.Read(file, []byte(text(in, "passphrase")))
	if err != nil && !errors.Is(err, keypair.ErrPassphrase) {
		return nil, err
	}
	out := describePublic(f.Public)
	out["private"], out["encrypted"], out["format"], out["wrongPassphrase"] = f.Private, f.Encrypted,
		f.Format.Title(), err != nil
	out["remarks"] = strings.Join(f.Remarks, " ")
	if f.Private {
		out["warning"] = keypair.LoadWarning(f.Public.Kind(), f.Format)
	}
	return out, nil
}

// convert writes a file in another format: {file, passphrase, format, newPassphrase}.
func convert(in js.Value) (map[string]any, error) {
	file := data(in, "file")
	defer clear(file)
	f, err := keypair.Read(file, []byte(text(in, "passphrase")))
	if err != nil {
		return nil, err
	}
	format := text(in, "format")
	if to, err := keypair.ParseFormat(format, keypair.PublicFormats()); err == nil {
		public, err := f.Public.Write(to)
		if err != nil {
			return nil, err
		}
		out := describePublic(f.Public)
		out["file"] = array(public)
		return out, nil
	}
	if f.Pair == nil {
		if f.Private {
			return nil, keypair.ErrPassphrase
		}
		return nil, errors.New("the file holds a public half only, and a private format was asked for")
	}
	return written(f.Pair, format, text(in, "newPassphrase"))
}
