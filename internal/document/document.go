// Package document holds the JSON forms that scripts rely on, each named by its
// first field; docs/schema describes them. Times are in seconds, amounts in
// bytes, instants in UTC (RFC 3339); a figure that is not known is not there.
//
// A form may gain fields, and loses or changes none under one name.
package document
