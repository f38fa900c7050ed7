package streams_test

import (
	"testing"

	"plumlatch/service/postgres/pgtest"
)

func TestMain(m *testing.M) { pgtest.Main(m) }
