-- Whether somebody came in from an address before, by any log, is asked for each address.

CREATE INDEX uses_by_address ON uses (address);
