-- +goose Up
-- Time stamps (RFC 3161) of signed heads of ledgers.
CREATE TABLE head_stamp (
  book      text NOT NULL,
  size      bigint NOT NULL,
  head      text NOT NULL,  -- what is stamped: the head's canonical line, without its line feed
  at        timestamptz NOT NULL, -- as the authority says
  authority text NOT NULL,
  response  bytea NOT NULL, -- DER
  PRIMARY KEY (book, size, head)
);

-- +goose Down
DROP TABLE head_stamp;
