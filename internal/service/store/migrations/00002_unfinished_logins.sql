-- +goose Up

-- Connections to a database server that ended before the login. The server counts them too, and locks this machine out
-- when there are too many.
CREATE TABLE unfinished_logins (
    vantage     text        NOT NULL, -- from where
    address     text        NOT NULL, -- and to where, with the port
    connections integer     NOT NULL,
    since       timestamptz NOT NULL,
    PRIMARY KEY (vantage, address)
);

-- +goose Down
DROP TABLE unfinished_logins;
