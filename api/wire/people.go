package wire

import "time"

// Ways are how people may sign in.
type Ways struct {
	Issuer string   `json:"issuer,omitempty" description:"by OpenID Connect; left out: the charter names none"`
	Client string   `json:"client,omitempty" description:"by which the issuer knows Dovrak"`
	Scopes []string `json:"scopes"`
}

// TerminalSignIn trades an identity token of the issuer, or the name and password of an account, for a token.
type TerminalSignIn struct {
	Identity string `json:"identity,omitempty" description:"the issuer's token, as it was given"`
	Name     string `json:"name,omitempty"`
	Password string `json:"password,omitempty"`
}

// TerminalSession is a person's token; its secret is shown this once.
type TerminalSession struct {
	Name    string    `json:"name"`
	Token   string    `json:"token"`
	Expires time.Time `json:"expires"`
}

// NewPassword sets the password of an account by an invitation, which is used up.
type NewPassword struct {
	Name       string `json:"name"`
	Invitation string `json:"invitation"`
	Password   string `json:"password" description:"at least 12 letters"`
}

// NewPerson gives someone an account of Dovrak's own.
type NewPerson struct {
	Name  string `json:"name"`
	Email string `json:"email,omitempty" description:"by which they are known as the same person when they come by an issuer"`
}

// PersonEdit changes what is known of a person.
type PersonEdit struct {
	Email string `json:"email" description:"empty: none"`
}

// Invitation is a secret by which a password is set; it is shown this once.
type Invitation struct {
	Name       string    `json:"name"`
	Invitation string    `json:"invitation"`
	Expires    time.Time `json:"expires"`
}

// Person is someone who signs in, with what the charter in force lets them do.
type Person struct {
	Name        string     `json:"name"`
	Email       string     `json:"email,omitempty"`
	Withdrawn   *time.Time `json:"withdrawn,omitempty" description:"since then they may do nothing"`
	Accounts    []Account  `json:"accounts"`
	Groups      []string   `json:"groups"`
	May         []string   `json:"may"`
	PromotesIn  []string   `json:"promotesIn" description:"environments whose rules name one of the groups"`
	RollsBackIn []string   `json:"rollsBackIn" description:"likewise"`
	ApprovesIn  []string   `json:"approvesIn" description:"likewise"`
}

// Account is what someone signs in by.
type Account struct {
	Issuer  string     `json:"issuer,omitempty" description:"left out: Dovrak's own"`
	Subject string     `json:"subject"`
	Claims  []string   `json:"claims"         description:"groups, as the issuer said at the last sign-in"`
	Seen    *time.Time `json:"seen,omitempty" description:"the last sign-in"`
	Invited *time.Time `json:"invited,omitempty" description:"until when an invitation counts"`
}

// People is everyone who has an account.
type People struct {
	Items []Person `json:"items"`
}

// Word is what someone says of a promotion that waits.
type Word struct {
	Remark  string `json:"remark"  description:"why; it goes on the trail"`
	Binding string `json:"binding" description:"of the plan that was shown: what is said is said of that"`
}

// Said is what someone has said of a promotion.
type Said struct {
	By     string    `json:"by"`
	Agreed bool      `json:"agreed"`
	Remark string    `json:"remark"`
	At     time.Time `json:"at"`
	Counts bool      `json:"counts" description:"it was said of the plan as it is now"`
}

// Prospect is what somebody looks at before they agree to a promotion.
type Prospect struct {
	Now       *ImageInView `json:"now,omitempty" description:"what stands there; left out: nothing"`
	Next      ImageInView  `json:"next"`
	Between   *Between     `json:"between,omitempty"`
	Elsewhere []Stand      `json:"elsewhere" description:"where the image stands already"`
	Said      []Said       `json:"said"`
	MaySay    bool         `json:"maySay"    description:"the one who asks may agree to it or decline it now"`
	WhyNot    string       `json:"whyNot,omitempty"`
}

// ImageInView is an image in few words.
type ImageInView struct {
	Reference string           `json:"reference"`
	Digest    string           `json:"digest"`
	Version   string           `json:"version,omitempty"`
	Revision  string           `json:"revision,omitempty"`
	Created   *time.Time       `json:"created,omitempty"`
	Size      int64            `json:"size"`
	Base      string           `json:"base,omitempty"`
	Platforms []PlatformInView `json:"platforms"`
	Builds    []BuildRef       `json:"builds"`
	Evidence  []Vouch          `json:"evidence"`
	Attested  int              `json:"attested" description:"attestations whose signature was verified"`
}

// PlatformInView is a platform of an image. Size is in bytes.
type PlatformInView struct {
	Platform string `json:"platform"`
	Size     int64  `json:"size"`
}

// Stand is a place where an image stands.
type Stand struct {
	Environment string     `json:"environment"`
	Repository  string     `json:"repository"`
	Tag         string     `json:"tag"`
	Since       *time.Time `json:"since,omitempty"`
}
