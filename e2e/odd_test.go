package e2e

import (
	"net"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/core/keypair"
)

// odd starts a server that misbehaves in one way, and returns its port.
func odd(t *testing.T, how string) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	pair, err := keypair.Create(keypair.Ed25519, "")
	if err != nil {
		t.Fatal(err)
	}
	private, err := pair.OpenSSH(nil)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := ssh.ParsePrivateKey(private)
	if err != nil {
		t.Fatal(err)
	}
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				switch how {
				case "silent": // accepts, and says nothing
					time.Sleep(time.Minute)
				case "drip": // a byte a second
					for _, b := range []byte("SSH-2.0-OpenSSH_9.2p1 and a very long tail that takes its time\r\n") {
						if _, err := conn.Write([]byte{b}); err != nil {
							return
						}
						time.Sleep(time.Second)
					}
				case "flood": // bytes without an end, and no line
					junk := make([]byte, 64<<10)
					for {
						if _, err := conn.Write(junk); err != nil {
							return
						}
					}
				case "old": // only what nobody should take any more
					config := &ssh.ServerConfig{NoClientAuth: true}
					config.KeyExchanges = []string{ssh.InsecureKeyExchangeDH1SHA1}
					config.Ciphers = []string{ssh.InsecureCipherTripleDESCBC}
					config.AddHostKey(signer)
					_, _, _, _ = ssh.NewServerConn(conn, config)
				}
			}()
		}
	}()
	return l.Addr().(*net.TCPAddr).Port
}
