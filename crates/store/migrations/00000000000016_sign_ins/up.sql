-- Who tried to sign in from where, counted by five minutes so that every server counts the same, and kept for the owner.
CREATE TABLE sign_ins (
    slot    TIMESTAMPTZ NOT NULL,
    login   TEXT NOT NULL,
    address TEXT NOT NULL,
    opened  INT NOT NULL DEFAULT 0,
    failed  INT NOT NULL DEFAULT 0,
    -- Not even looked at: too many before.
    refused INT NOT NULL DEFAULT 0,
    last_at TIMESTAMPTZ NOT NULL,
    PRIMARY KEY (slot, login, address)
);
CREATE INDEX sign_ins_login ON sign_ins (login, slot);
CREATE INDEX sign_ins_address ON sign_ins (address, slot);
CREATE INDEX sign_ins_last_at ON sign_ins (last_at);
