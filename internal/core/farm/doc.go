// Package farm holds the nouns of a render farm and their rules: node, run,
// lease, project, person, and the State they form together.
//
// A State changes in one place only, State.Apply, and only by Records. The
// service applies Records once they are committed; a farm played on paper
// applies the same Records to the same State. The package knows neither
// where Records are kept nor who sent them, and it never looks at a clock:
// every Record carries its own time.
package farm
