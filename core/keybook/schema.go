package keybook

// Schema is the JSON Schema (draft 2020-12) of a file of a keybook, for editors. It says the form of each file by itself: what names what,
// and keys, are checked by Read alone.
const Schema = `{
  "$schema": "https://json-schema.org/draft/2020-12/schema",
  "title": "Keybook",
  "description": "Which keys, holders, sets, instances and accesses should exist.",
  "type": "object",
  "additionalProperties": false,
  "required": ["keybook"],
  "properties": {
    "keybook": { "$ref": "#/$defs/name", "description": "The name of the book." },
    "form": { "const": 1, "description": "The form of the text; 1 if it is left out." },
    "complete": {
      "type": "object",
      "description": "For which instances the book is complete: what is not in it is to be withdrawn there.",
      "additionalProperties": false,
      "required": ["files"],
      "properties": {
        "instances": { "$ref": "#/$defs/names" },
        "tag": { "$ref": "#/$defs/texts" },
        "region": { "$ref": "#/$defs/texts" },
        "image": { "$ref": "#/$defs/texts" },
        "all": { "type": "boolean" },
        "also": {
          "description": "What is covered besides the recorded keys of persons.",
          "anyOf": [
            { "enum": ["machines", "unrecorded", "authorities"] },
            { "type": "array", "items": { "enum": ["machines", "unrecorded", "authorities"] } }
          ]
        },
        "strict": { "type": "boolean", "description": "What was shared by hand until an end is withdrawn too." },
        "files": { "$ref": "#/$defs/texts", "description": "The files that the book consists of." }
      }
    },
    "holders": {
      "type": ["object", "null"],
      "description": "Who has private keys.",
      "propertyNames": { "$ref": "#/$defs/name" },
      "additionalProperties": {
        "anyOf": [
          { "enum": ["person", "team", "machine", "job", null] },
          {
            "type": "object",
            "additionalProperties": false,
            "properties": {
              "sort": { "enum": ["person", "team", "machine", "job"] },
              "members": { "$ref": "#/$defs/names", "description": "Of a team: who is in it." }
            }
          }
        ]
      }
    },
    "keys": {
      "type": ["object", "null"],
      "description": "Public keys, by name.",
      "propertyNames": { "$ref": "#/$defs/name" },
      "additionalProperties": {
        "anyOf": [
          { "type": "string", "description": "The public key in one line." },
          {
            "type": "object",
            "additionalProperties": false,
            "oneOf": [{ "required": ["line"] }, { "required": ["file"] }, { "required": ["fingerprint"] }, { "required": ["make"] }],
            "properties": {
              "line": { "type": "string", "description": "The public key in one line: ssh-ed25519 AAAA... comment" },
              "file": { "type": "string", "description": "A .pub file, by its path from this file." },
              "fingerprint": { "type": "string", "pattern": "^SHA256:[A-Za-z0-9+/]{43}=?$", "description": "Of a key that the ledger knows." },
              "make": {
                "type": "object",
                "description": "A pair that the client makes on your machine, if there is none.",
                "additionalProperties": false,
                "required": ["out"],
                "properties": {
                  "kind": { "enum": ["ed25519", "rsa", "rsa-2048", "rsa-3072", "rsa-4096", "ecdsa", "ecdsa-256", "ecdsa-384", "ecdsa-521"] },
                  "out": { "type": "string", "description": "The private file; the public one is beside it, with .pub." }
                }
              },
              "authority": { "type": "boolean", "description": "A certificate authority: it is put on no instance." },
              "holder": { "$ref": "#/$defs/name" },
              "note": { "type": "string", "maxLength": 1000 },
              "origin": { "enum": ["made here", "imported", "made elsewhere"] },
              "state": { "enum": ["in use", "retired"] },
              "cloud_lists": { "$ref": "#/$defs/texts", "description": "The cloud's own lists that should have it: REGION, or REGION/NAME." }
            }
          }
        ]
      }
    },
    "sets": {
      "type": ["object", "null"],
      "description": "Sets of keys, holders and other sets.",
      "propertyNames": { "$ref": "#/$defs/name" },
      "additionalProperties": { "$ref": "#/$defs/whom" }
    },
    "access": {
      "type": ["array", "null"],
      "description": "Who opens what.",
      "items": {
        "type": "object",
        "additionalProperties": false,
        "required": ["whom", "to"],
        "properties": {
          "whom": { "$ref": "#/$defs/whom" },
          "to": { "$ref": "#/$defs/to" },
          "as": { "$ref": "#/$defs/user", "description": "The login user; the instance's own if it is left out." },
          "until": { "type": "string", "description": "An end: 2027-01-31, which lasts to the end of that day in UTC, or 2027-01-31T18:00:00Z." },
          "from": { "$ref": "#/$defs/texts", "description": "Networks that the key may be used from." },
          "only": { "type": "string", "maxLength": 500, "description": "The one command that the key may run." },
          "reason": { "type": "string", "maxLength": 200 }
        }
      }
    },
    "instances": {
      "type": ["object", "null"],
      "description": "Instances that should exist; they are launched only where that is asked for, and never removed.",
      "propertyNames": { "$ref": "#/$defs/name" },
      "additionalProperties": {
        "type": "object",
        "additionalProperties": false,
        "required": ["image", "size", "region", "keys"],
        "properties": {
          "image": { "type": "string" },
          "size": { "type": "string" },
          "region": { "type": "string" },
          "zone": { "type": "string" },
          "disk_gb": { "type": "integer", "minimum": 1 },
          "keys": { "$ref": "#/$defs/whom" },
          "tags": { "type": "object", "additionalProperties": { "type": ["string", "number", "boolean"] } },
          "address": { "type": "string", "description": "A static address: its name, or new." }
        }
      }
    },
    "rules": {
      "type": ["array", "null"],
      "description": "Inbound rules.",
      "items": {
        "type": "object",
        "additionalProperties": false,
        "required": ["to", "from"],
        "properties": {
          "to": { "$ref": "#/$defs/to" },
          "from": { "$ref": "#/$defs/texts" },
          "ports": { "type": ["string", "integer"], "description": "22 if it is left out; 8000-8010 for several." }
        }
      }
    },
    "checks": {
      "type": ["array", "null"],
      "description": "What works means for instances.",
      "items": {
        "type": "object",
        "additionalProperties": false,
        "required": ["to", "is"],
        "properties": { "to": { "$ref": "#/$defs/to" }, "is": { "$ref": "#/$defs/texts" } }
      }
    },
    "logins": {
      "type": ["array", "null"],
      "description": "How people may log in besides keys.",
      "items": {
        "type": "object",
        "additionalProperties": false,
        "required": ["to"],
        "properties": {
          "to": { "$ref": "#/$defs/to" },
          "password": { "enum": ["on", "off", true, false] },
          "root": { "enum": ["on", "keys", "off", true, false] }
        }
      }
    },
    "users": {
      "type": ["array", "null"],
      "description": "Accounts on instances.",
      "items": {
        "type": "object",
        "additionalProperties": false,
        "required": ["to", "name"],
        "properties": {
          "to": { "$ref": "#/$defs/to" },
          "name": { "$ref": "#/$defs/user" },
          "keys": { "$ref": "#/$defs/whom" },
          "sudo": { "type": "boolean" }
        }
      }
    }
  },
  "$defs": {
    "name": { "type": "string", "pattern": "^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$" },
    "user": { "type": "string", "pattern": "^[a-z_][a-z0-9_.-]{0,31}$" },
    "names": { "anyOf": [{ "$ref": "#/$defs/name" }, { "type": "array", "items": { "$ref": "#/$defs/name" } }] },
    "texts": { "anyOf": [{ "type": "string" }, { "type": "array", "items": { "type": "string" } }] },
    "word": {
      "type": "string",
      "description": "A key, a holder (holder/NAME) or a set (set/NAME).",
      "pattern": "^((key|holder|set)/)?[A-Za-z0-9][A-Za-z0-9._-]{0,62}$"
    },
    "whom": { "anyOf": [{ "$ref": "#/$defs/word" }, { "type": "array", "items": { "$ref": "#/$defs/word" } }] },
    "except": {
      "type": "object",
      "description": "Without those for which any of this holds.",
      "additionalProperties": false,
      "properties": {
        "instances": { "$ref": "#/$defs/names" },
        "tag": { "$ref": "#/$defs/texts" },
        "region": { "$ref": "#/$defs/texts" },
        "image": { "$ref": "#/$defs/texts" },
        "all": { "type": "boolean" }
      }
    },
    "to": {
      "type": "object",
      "description": "Those instances for which all of this holds.",
      "additionalProperties": false,
      "minProperties": 1,
      "properties": {
        "instances": { "$ref": "#/$defs/names", "description": "One of these names." },
        "tag": { "$ref": "#/$defs/texts", "description": "All of these: NAME=VALUE, or NAME." },
        "region": { "$ref": "#/$defs/texts", "description": "One of these." },
        "image": { "$ref": "#/$defs/texts", "description": "One of these." },
        "all": { "type": "boolean" },
        "except": { "$ref": "#/$defs/except" },
        "must_match": { "type": "boolean", "description": "That no instance is chosen is an error." }
      }
    }
  }
}
`
